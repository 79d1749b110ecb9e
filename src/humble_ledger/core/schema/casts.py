"""Casts that change nothing: an index on the column serves the converted column as well.

A server prints a conversion wherever two types differ by name. Most hide the column from its
indexes; a few change neither the values nor their order, and are looked through.
"""

from __future__ import annotations

from functools import lru_cache

from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.schema.facts import ColumnFacts
from humble_ledger.core.statements.conditions import Predicate, Wrapping
from humble_ledger.core.statements.sql_dialect import DIALECT

# What a type may be converted to and still be sorted as before. A fixed-length character type is
# none of them: its conversion cuts the blanks at the end.
_SAME_ORDER = frozenset((("varchar", "text"), ("cidr", "inet")))


def changes_nothing(column: ColumnFacts, cast_to: str) -> bool:
    """Whether an index on the column serves it converted to that type, too."""
    wanted = cast_to.lower()  # with its length: a shorter one cuts values
    return any(
        own == wanted or (own, wanted) in _SAME_ORDER
        for own in (_plain_type(column.type_name), _plain_type(column.base_type))
        if own
    )


def real_wrapping(column: ColumnFacts | None, predicate: Predicate) -> Wrapping:
    """What stands around a predicate's column, casts that change nothing left out."""
    if (
        predicate.wrapping is Wrapping.CAST
        and column is not None
        and changes_nothing(column, predicate.cast_to)
    ):
        return Wrapping.NONE
    return predicate.wrapping


@lru_cache(maxsize=1024)
def _plain_type(name: str) -> str:
    """A type by its short name and without its length, as "varchar"."""
    if not name:
        return ""
    try:
        found = exp.DataType.build(name, dialect=DIALECT, udt=True)
    except SqlglotError:
        return name.lower()
    if not found.args.get("nested"):
        found.set("expressions", [])  # the length
    return found.sql(dialect=DIALECT).lower()
