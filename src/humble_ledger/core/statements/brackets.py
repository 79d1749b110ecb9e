"""Brackets around an expression that say nothing."""

from __future__ import annotations

from functools import lru_cache

from humble_ledger.core.statements.tokens import tokens


@lru_cache(maxsize=4096)
def without_brackets(text: str) -> str:
    """The text without brackets that enclose all of it."""
    text = text.strip()
    while text.startswith("(") and text.endswith(")"):
        depth = 0
        for token in tokens(text):
            depth += (token.text == "(") - (token.text == ")")
            if depth == 0:
                break
        if depth != 0 or token.end != len(text):
            return text
        text = text[1:-1].strip()
    return text
