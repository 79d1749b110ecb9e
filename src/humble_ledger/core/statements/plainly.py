"""A server's condition as people would write it: without types it spelled out, and aliases."""

from __future__ import annotations

import re
from functools import lru_cache

from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.tokens import Token, TokenKind, tokens

# Words of which the names of types of several words are made.
_TYPE_WORDS = frozenset(
    "timestamp time with without zone double precision character varying bit interval".split()
)
MOST_CHARACTERS = 80
_NEEDLESS_QUOTES = re.compile(r'"([a-z_][a-z0-9_]*)"')
_BARE_IN_BRACKETS = re.compile(r"(?<!\w)\((\w+|'[^']*')\)")


@lru_cache(maxsize=1024)
def plainly(condition: str) -> str:
    """As in "(a.kind = 'ice'::text)" → "kind = 'ice'"; what is too long is cut in its middle."""
    kept = list(tokens(condition))
    said, at = "", 0
    while at < len(kept):
        if kept[at].text == "::" and _goes_without_saying(kept, at):
            at = _behind_type(kept, at + 1)
        elif _names_table(kept, at):
            at += 2
        else:
            quoted = _NEEDLESS_QUOTES.fullmatch(kept[at].text)
            said += quoted[1] if quoted else kept[at].text
            at += 1
    said = _BARE_IN_BRACKETS.sub(r"\1", said)
    said = without_brackets(" ".join(said.split()))
    if len(said) > MOST_CHARACTERS:
        half = MOST_CHARACTERS // 2
        said = f"{said[:half]} … {said[-half:]}"
    return said


def _names_table(kept: list[Token], at: int) -> bool:
    names = (TokenKind.WORD, TokenKind.QUOTED)
    return (
        at + 2 < len(kept)
        and kept[at].kind in names
        and kept[at + 1].text == "."
        and kept[at + 2].kind in names
    )


def _goes_without_saying(kept: list[Token], at: int) -> bool:
    """Whether a type is spelled out that nobody writes: of a literal, or text."""
    before = kept[at - 1]
    literal = before.kind in (TokenKind.STRING, TokenKind.NUMBER)
    return literal or (at + 1 < len(kept) and kept[at + 1].is_word("text"))


def _behind_type(kept: list[Token], at: int) -> int:
    """The place behind a type's name that begins here."""
    several = kept[at].text.lower() in _TYPE_WORDS
    at += 1
    while at < len(kept):
        text = kept[at].text.lower()
        following = kept[at + 1].text.lower() if at + 1 < len(kept) else ""
        if text == "(":
            while at < len(kept) and kept[at].text != ")":
                at += 1
            at += 1
        elif text in ("[", "]"):
            at += 1
        elif several and kept[at].kind is TokenKind.SPACE and following in _TYPE_WORDS:
            at += 2
        else:
            break
    return at
