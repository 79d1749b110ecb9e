"""A statement with its parameter values written into it, to be read and pasted by people.

What we send ourselves goes through the driver with the values beside the text.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from humble_ledger.core.statements.tokens import TokenKind, tokens

_NUMBER = re.compile(r"[+-]?\d+(\.\d+)?")


def literal(value: str | None) -> str:
    """A value as an SQL literal; a plain number stays bare, so that its type is kept."""
    if value is None:
        return "NULL"
    if _NUMBER.fullmatch(value):
        return value
    quoted = "'" + value.replace("'", "''") + "'"
    return "E" + quoted.replace("\\", "\\\\") if "\\" in value else quoted


def fill(sql: str, values: Sequence[str | None]) -> str:
    """The statement with each $n replaced by the literal of its value.

    A placeholder without a value stays as it is.
    """
    if not values:
        return sql
    parts = []
    for token in tokens(sql):
        text = token.text
        if token.kind is TokenKind.PARAMETER and text[0] == "$":
            number = int(text[1:])
            if 1 <= number <= len(values):
                text = literal(values[number - 1])
        parts.append(text)
    return "".join(parts)
