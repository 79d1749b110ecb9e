"""Statements as drivers take them, with the server's own numbered parameters in their place.

An application writes ``?``, ``%s``, ``%(name)s`` or ``:name``; its driver puts the values
there. With ``$1`` in place of these the statement can be planned and sent again.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache

from humble_ledger.core.statements.tokens import TokenKind, tokens

# As the standard interface of Python's drivers (PEP 249) names them; $1 stands as it is.
STYLES = ("qmark", "format", "pyformat", "named", "dollar")


@lru_cache(maxsize=2_048)
def numbered(sql: str, style: str) -> tuple[str, tuple[str | int, ...]]:
    """The statement with ``$1`` and so on, and which value each of these has.

    A value is told by its place from 0, or by its name. A statement whose placeholders are of no
    known style stays as it is.
    """
    if style not in STYLES or style == "dollar":
        return sql, ()
    if style == "qmark":
        return _question_marks(sql)
    percent = style in ("format", "pyformat")
    parts: list[str] = []
    keys: dict[str | int, int] = {}  # each with its number
    places = 0
    for token in tokens(sql):
        text = token.text
        key: str | int | None = None
        if token.kind is TokenKind.PARAMETER:
            if percent and text == "%s":
                key = places
                places += 1
            elif percent and text.startswith("%("):
                key = text[2:-2]
            elif style == "named" and text.startswith(":"):
                key = text[1:]
        if key is None:
            parts.append(text.replace("%%", "%") if percent else text)
        else:
            number = keys.setdefault(key, len(keys) + 1)
            parts.append(f"${number}")
    return "".join(parts), tuple(keys)


def _question_marks(sql: str) -> tuple[str, tuple[str | int, ...]]:
    """Every ? outside strings, names and comments: also where it stands beside an operator."""
    parts: list[str] = []
    count = 0
    for token in tokens(sql):
        if token.kind is TokenKind.OPERATOR and "?" in token.text:
            for sign in token.text:
                count += sign == "?"
                parts.append(f"${count}" if sign == "?" else sign)
        else:
            parts.append(token.text)
    return "".join(parts), tuple(range(count))


def values_in_order(
    given: Sequence[str | None] | Mapping[str, str | None], keys: Sequence[str | int]
) -> tuple[str | None, ...]:
    """The values of `numbered`'s parameters; () when one of them was not given."""
    if not keys:
        return tuple(given) if not isinstance(given, Mapping) else ()
    found: list[str | None] = []
    for key in keys:
        if isinstance(given, Mapping):
            if not isinstance(key, str) or key not in given:
                return ()
            found.append(given[key])
        elif isinstance(key, int) and key < len(given):
            found.append(given[key])
        else:
            return ()
    return tuple(found)
