"""Values of parameters: from the text in which they are kept, and into a statement."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import lru_cache

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.placeholders import numbered
from humble_ledger.core.statements.tokens import TokenKind, tokens

Value = str | int | float | None
_NAMED = re.compile(r"[$:@](\w+)")
_WHOLE = re.compile(r"-?(?:0|[1-9]\d{0,17})")
_BROKEN = re.compile(r"-?(?:0|[1-9]\d*)\.\d+(?:[eE][-+]?\d+)?")


def typed(value: str | None) -> Value:
    """A kept value as it was sent: a number where its text is how a number is written.

    A column of texts compares a number as text, so that nothing is lost where it was one.
    """
    if value is None:
        return None
    if _WHOLE.fullmatch(value):
        return int(value)
    return float(value) if _BROKEN.fullmatch(value) else value


def prepared(statement: Statement) -> tuple[str, Mapping[str, Value]]:
    """A statement whose parameters have names, and the value of each; NULL where none is known."""
    sql = _with_names(statement.sql) if "?" in statement.sql else statement.sql
    return sql, bindings(sql, statement.values)


@lru_cache(maxsize=2_048)
def _with_names(sql: str) -> str:
    """``$1`` for ``?1``, and for a ``?`` by its place; what stands in a string stays."""
    parts: list[str] = []
    waits = False
    for token in tokens(sql):
        if waits and token.kind is TokenKind.NUMBER and token.text.isdigit():
            parts[-1] = parts[-1][:-1] + "$"
        parts.append(token.text)
        waits = token.kind is TokenKind.OPERATOR and token.text.endswith("?")
    return numbered("".join(parts), "qmark")[0]


def bindings(sql: str, values: Sequence[str | None]) -> Mapping[str, Value]:
    """The value of each $n in a statement."""
    found: dict[str, Value] = {}
    for name in _NAMED.findall(sql):  # one too many does no harm
        place = int(name) if name.isdigit() else 0
        found[name] = typed(values[place - 1]) if 1 <= place <= len(values) else None
    return found


def filled(statement: Statement) -> str:
    """The statement with its values written into it, to be read by us alone."""
    sql, values = prepared(statement)[0], statement.values
    if not values:
        return sql
    parts = []
    for token in tokens(sql):
        text = token.text
        if token.kind is TokenKind.PARAMETER and text[0] == "$" and text[1:].isdigit():
            place = int(text[1:])
            if 1 <= place <= len(values):
                text = _literal(values[place - 1])
        parts.append(text)
    return "".join(parts)


def _literal(value: str | None) -> str:
    found = typed(value)
    if found is None:
        return "NULL"
    if isinstance(found, int | float):
        return str(found)
    return "'" + found.replace("'", "''") + "'"


def as_text(value: object) -> bytes | None:
    """A value of a result in a text form of our own; None for NULL."""
    if value is None:
        return None
    if isinstance(value, bytes):
        return b"x'" + value.hex().encode() + b"'"
    return str(value).encode("utf-8", "surrogatepass")
