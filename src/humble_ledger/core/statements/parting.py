"""A predicate as a server prints it, parted into its two sides; and names without their table.

A syntax tree would print an expression its own way; what an index is built on must be the
server's own wording.
"""

from __future__ import annotations

from functools import lru_cache

from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.tokens import Token, TokenKind, meaningful, tokens, unquoted

_NAMES = (TokenKind.WORD, TokenKind.QUOTED)
_COMPARES = frozenset(
    "= <> < <= > >= ~~ ~~* !~~ ~ ~* @> <@ && @@ @? ? ?| ?&".split(),
)


@lru_cache(maxsize=4096)
def halves(predicate: str) -> tuple[str, str, str] | None:
    """(left side, operator, right side) at the outermost comparison; None when there is none."""
    depth, negated = 0, 0
    for token in tokens(predicate):
        depth += (token.text in "([") - (token.text in ")]") if len(token.text) == 1 else 0
        if depth:
            continue
        if token.is_word("not") and token.start:
            negated = token.start
        elif token.is_word("like"):
            left = predicate[: negated or token.start]
            words = "NOT LIKE" if negated else "LIKE"
            return without_brackets(left), words, predicate[token.end :].strip()
        elif token.kind is TokenKind.OPERATOR and token.text in _COMPARES:
            return (
                without_brackets(predicate[: token.start]),
                token.text,
                predicate[token.end :].strip(),
            )
    return None


@lru_cache(maxsize=4096)
def unqualified(text: str, alias: str) -> str:
    """An expression without "alias." before its columns, as an index's definition has it."""
    return requalified(text, alias, "")


def requalified(text: str, alias: str, by: str) -> str:
    """An expression with ``by`` in place of "alias." before its columns."""
    kept, said, at = list(tokens(text)), "", 0
    while at < len(kept):
        if _is_qualifier(kept, at, alias):
            said += by
            at += 2
        else:
            said += kept[at].text
            at += 1
    return said


def _is_qualifier(kept: list[Token], at: int, alias: str) -> bool:
    return (
        at + 2 < len(kept)
        and kept[at].kind in _NAMES
        and unquoted(kept[at].text) == alias
        and kept[at + 1].text == "."
        and kept[at + 2].kind in _NAMES
    )


def literals_of(text: str) -> list[str]:
    """The constants that stand in an expression, without quotes and types; not parameters."""
    found = []
    words = meaningful(text)
    for token in words:
        if token.kind is TokenKind.STRING:
            found.append(token.text.strip("'").replace("''", "'"))
        elif token.kind is TokenKind.NUMBER:
            found.append(token.text)
    return found


def has_parameter(text: str) -> bool:
    """Whether an expression waits for a value that is not in it."""
    return any(token.kind is TokenKind.PARAMETER for token in tokens(text))


def same_text(one: str, other: str) -> bool:
    """Whether two expressions are worded alike, but for space and brackets around all."""
    return _squeezed(one) == _squeezed(other)


@lru_cache(maxsize=4096)
def _squeezed(text: str) -> str:
    return " ".join(t.text for t in meaningful(without_brackets(text)))


def alternatives(condition: str) -> list[str]:
    """The sides of an OR at the outermost level; the condition itself where there is none."""
    text, depth, start, found = without_brackets(condition), 0, 0, []
    for token in tokens(text):
        depth += (token.text == "(") - (token.text == ")")
        if depth == 0 and token.is_word("or"):
            found.append(text[start : token.start].strip())
            start = token.end
    return [*found, text[start:].strip()]
