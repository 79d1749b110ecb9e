"""Keeping literals out: statements, conditions and plans without their values."""

from __future__ import annotations

import re

from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.tokens import TokenKind, tokens

MASK = "…"
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


def masked_error(message: str) -> str:
    """A server's error without quoted values and without figures, which may be some, too."""
    return _FIGURE.sub(MASK, masked_words(message))


def masked_words(message: str) -> str:
    """A server's message without quoted values, and without the statements in it."""
    first, _, rest = message.partition("\n")
    shown = _QUOTED.sub(MASK, first)
    return shown if not rest else f"{shown}\n{MASK}"
