"""Values of parameters, written into a statement by this family's rules."""

from __future__ import annotations

import re

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.mysql.lexing import NO_ESCAPES

_NUMBER = re.compile(r"-?(?:0|[1-9]\d{0,30})(?:\.\d+)?(?:[eE][-+]?\d{1,3})?")
_WHOLE = re.compile(r"-?\d+")
_COUNTS = re.compile(r"\b(?:LIMIT|OFFSET|ROWS|INTERVAL)\s+(?:[$\w]+\s*,\s*)?$", re.IGNORECASE)
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
        value = statement.values[place - 1] if 1 <= place <= len(statement.values) else None
        if value is not None and _WHOLE.fullmatch(value):
            # Whether it was sent as a number is not known. A column of whole numbers takes a text
            # of digits just as well, and one of texts would be converted for a number; only where
            # a statement counts rows it must be one.
            return value if _COUNTS.search(statement.sql, 0, found.start()) else f"'{value}'"
        return literal(value, modes)

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
