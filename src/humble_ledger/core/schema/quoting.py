"""Names as SQL identifiers, for statements that people read, keep and run themselves."""

from __future__ import annotations

import re
from dataclasses import dataclass

from humble_ledger.core.schema.facts import TableName

_PLAIN = re.compile(r"[a-z_][a-z0-9_]*")
# Reserved in PostgreSQL or in the SQL standard; quoting one too many does no harm.
_RESERVED = frozenset(
    """all analyse analyze and any array as asc asymmetric authorization between binary both
    case cast check collate collation column concurrently constraint create cross
    current_catalog current_date current_role current_schema current_time current_timestamp
    current_user default deferrable desc distinct do else end except exists false fetch for
    foreign freeze from full grant group groups having ilike in initially inner intersect
    interval into is isnull join key lateral leading left like limit localtime
    localtimestamp natural not notnull null offset on only or order outer overlaps over
    partition placing primary range references returning right row rows select session_user
    set similar some symmetric system_user table tablesample then to trailing true union
    unique user using values variadic verbose when where window with""".split()
)
MAX_NAME_BYTES = 63


STANDARD_MARK = '"'


@dataclass(frozen=True, slots=True)
class Quoting:
    """How names are written: the ``mark`` around those that need one, and what is ``reserved``
    beside the words of the standard.
    """

    mark: str = STANDARD_MARK
    reserved: frozenset[str] = frozenset()


_STANDARD = Quoting()


def identifier(name: str, quoting: Quoting = _STANDARD) -> str:
    """One name, quoted when it must be."""
    if _PLAIN.fullmatch(name) and name not in _RESERVED and name not in quoting.reserved:
        return name
    mark = quoting.mark
    return mark + name.replace(mark, mark * 2) + mark


def table_identifier(table: TableName, quoting: Quoting = _STANDARD) -> str:
    """A table with its schema; the schema public is left out, as people write it."""
    if table.schema in ("", "public"):
        return identifier(table.name, quoting)
    return f"{identifier(table.schema, quoting)}.{identifier(table.name, quoting)}"


def fitting_name(name: str) -> str:
    """A name cut to what the server keeps (63 bytes), at a character's end."""
    raw = name.encode()[:MAX_NAME_BYTES]
    return raw.decode(errors="ignore")
