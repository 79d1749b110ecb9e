"""Keeping literals out: statements, conditions and plans without their values."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.tokens import TokenKind, tokens

MASK = "…"
_LITERALS = (TokenKind.STRING, TokenKind.NUMBER)
# Keys of a plan's document whose text is statement or condition; all others are names,
# figures or words of the server's own.
_TELLING = re.compile(
    r"Cond$|Filter$|^Output$|Key$|^Query|^Function Call$|^Remote SQL$|^Order By$|^Statement$"
    r"|^Run Condition$|^Window$|^Table Function"
)
# In a message of the server: what stands in quotes or brackets may be a value.
_QUOTED = re.compile(r"'(?:[^']|'')*'|\"[^\"\n]*\"|=\([^\n]*?\)")


def masked(sql: str) -> str:
    """A statement or condition with $1 … in place of its literals."""
    return normalise(sql).text


def masked_expression(text: str) -> str:
    """An expression as the server prints it, each literal replaced, all else as it stands."""
    found, number = [], 0
    for token in tokens(text):
        if token.kind in _LITERALS:
            number += 1
            found.append(f"${number}")
        else:
            found.append(token.text)
    return "".join(found)


def masked_words(message: str) -> str:
    """A server's message without quoted values, and without the statements in it."""
    first, _, rest = message.partition("\n")
    shown = _QUOTED.sub(MASK, first)
    return shown if not rest else f"{shown}\n{MASK}"


def masked_document(document: Any, key: str = "") -> Any:
    """A server's plan document without literals."""
    if isinstance(document, Mapping):
        return {name: masked_document(value, name) for name, value in document.items()}
    if isinstance(document, list):
        return [masked_document(each, key) for each in document]
    if isinstance(document, str) and _TELLING.search(key):
        return masked_expression(document)
    return document
