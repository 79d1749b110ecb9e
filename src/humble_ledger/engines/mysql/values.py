"""Values of parameters, written into a statement by this family's rules."""

from __future__ import annotations

import re

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.mysql.lexing import NO_ESCAPES

_NUMBER = re.compile(r"-?(?:0|[1-9]\d{0,30})(?:\.\d+)?(?:[eE][-+]?\d{1,3})?")
_PLACES = re.compile(
    r"""(?P<kept>'(?:[^'\\]|\\.|'')*'|"(?:[^"\\]|\\.|"")*"|`(?:[^`]|``)*`
      |/\*.*?\*/|(?:\#|--\s)[^\n]*)
    | (?<![\w$@])\$(?P<number>\d+)
    """,
    re.VERBOSE | re.DOTALL,
)


def filled(statement: Statement, modes: str = "") -> str:
    """The statement with its values in place of $1 and so on; NULL where none is known."""
    if "$" not in statement.sql:
        return statement.sql

    def change(found: re.Match[str]) -> str:
        if found["kept"] is not None:
            return found[0]
        place = int(found["number"])
        known = 1 <= place <= len(statement.values)
        return literal(statement.values[place - 1] if known else None, modes)

    return _PLACES.sub(change, statement.sql)


def has_parameters(sql: str) -> bool:
    """Whether $1 or the like stands in it, outside of strings and comments."""
    return any(found["number"] is not None for found in _PLACES.finditer(sql))


def literal(value: str | None, modes: str = "") -> str:
    """A kept value as a constant: a number where its text is how a number is written."""
    if value is None:
        return "NULL"
    if _NUMBER.fullmatch(value):
        return value
    text = value.replace("'", "''")
    return "'" + (text if NO_ESCAPES in modes else text.replace("\\", "\\\\")) + "'"


def as_text(value: object) -> bytes | None:
    """A value of a result in a text form of our own; None for NULL."""
    if value is None:
        return None
    return value if isinstance(value, bytes) else str(value).encode("utf-8", "surrogatepass")
