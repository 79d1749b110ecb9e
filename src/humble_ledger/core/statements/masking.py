"""Keeping literals out: statements, conditions and plans without their values."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from humble_ledger.core.messages import AS_TOLD, PHRASE, TEXT, Message, Told
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.tokens import TokenKind, tokens

MASK = "…"
# Arguments of messages that may be bare words of the data.
_OF_VALUES = frozenset(("value", "values", "last_value", "route", "sender"))
_LITERALS = (TokenKind.STRING, TokenKind.NUMBER, TokenKind.UNCLOSED)
# In a message of the server: what stands in quotes or brackets may be a value. Messages come in
# many languages, and each has quotes of its own.
_QUOTED = re.compile(
    r"'(?:[^']|'')*(?:'|\Z)|\"[^\"]*(?:\"|\Z)|«[^»]*(?:»|\Z)|[„“][^“”]*(?:[“”]|\Z)|「[^」]*(?:」|\Z)"
    r"|=\([^\n]*"
)
_FIGURE = re.compile(r"(?<![\w.])[-+]?\d[\d.,]*(?![\w.]| ms\b)")
# A backslash before a quote ends no string where the server takes it for an escape: what follows
# may be inside or outside, so nothing of it can be kept.
_DOUBTFUL = re.compile(r"\\'")


def masked(sql: str) -> str:
    """A statement or condition with $1 … in place of its literals."""
    return normalise(_certain(sql)).text


def _certain(sql: str) -> str:
    """The text up to where nobody can tell any more what is a literal."""
    if _DOUBTFUL.search(sql) is None:
        return sql
    for token in tokens(sql):
        plain = token.kind is TokenKind.STRING and token.text[0] not in "eE$"
        if plain and _DOUBTFUL.search(token.text) is not None:
            return f"{sql[: token.start]}'{MASK}'"
    return sql


def masked_expression(text: str) -> str:
    """An expression as the server prints it, each literal replaced, all else as it stands."""
    found, number = [], 0
    for token in tokens(_certain(text)):
        if token.kind in _LITERALS:
            number += 1
            found.append(f"${number}")
        else:
            found.append(token.text)
    return "".join(found)


def masked_told(told: Told) -> Told:
    """A message without the literals of its conditions, and without values; figures stay."""
    return masked_message(told) if isinstance(told, Message) else masked_expression(told)


def masked_message(told: Message, values: Sequence[str] = ()) -> Message:
    """The same, of a message; ``values`` are bare words that old sentences may quote."""
    if told.key == AS_TOLD:
        text = str(told.arguments.get(TEXT, ""))
        for value in values:
            text = text.replace(value, MASK)
        return Message(AS_TOLD, {TEXT: masked_error(text)})
    found: dict[str, Any] = {
        name: value if told.key == PHRASE and name == TEXT else _argument(name, value)
        for name, value in told.arguments.items()
    }
    return Message(told.key, found)


def _argument(name: str, value: object) -> object:
    if name in _OF_VALUES and value is not None:
        return (MASK,) if isinstance(value, tuple) else MASK
    if isinstance(value, Message):
        return masked_message(value)
    if isinstance(value, tuple):
        return tuple(_argument(name, each) for each in value)
    return masked_expression(value) if isinstance(value, str) else value


def masked_error(message: str) -> str:
    """A server's error without quoted values and without figures, which may be some, too."""
    return _FIGURE.sub(MASK, masked_words(message))


def masked_words(message: str) -> str:
    """A server's message without quoted values, and without the statements in it."""
    first, _, rest = message.partition("\n")
    shown = _QUOTED.sub(MASK, first)
    return shown if not rest else f"{shown}\n{MASK}"
