"""Grouping: the same statement with other literals is the same query.

The fingerprint is stable under literals, length of IN lists, number of VALUES rows, white
space, comments, case of keywords and plain names, needless quoting of names, and style of
parameters. It never merges statements that differ in tables, columns or operators.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from hashlib import blake2b

from humble_ledger.core.statements.tokens import Token, TokenKind, meaningful

# What does not end is a statement that was cut off, most likely inside of a literal.
_CONSTANTS = (TokenKind.STRING, TokenKind.NUMBER, TokenKind.PARAMETER, TokenKind.UNCLOSED)
_PLAIN_NAME = re.compile(r"[a-z_][a-z0-9_$]*")
_HOLE = "$"
# After these a sign belongs to the number that follows, not to a subtraction.
_SIGN_BEFORE = frozenset("(,[=<>") | {"<=", ">=", "<>", "!=", "::"}
_SIGN_WORDS = frozenset(
    ["select", "where", "and", "or", "not", "between", "limit", "offset", "then", "else", "when",
     "in", "like", "values", "return", "returning", "by", "on", "having"]
)  # fmt: skip
_TIGHT_BEFORE = frozenset("),;.]") | {"::"}
_TIGHT_AFTER = frozenset("(.[") | {"::"}
_KEYWORDS = frozenset(
    """all and any as asc between by case cross delete desc distinct else end exists except
    false fetch filter first following for from full group having ilike in inner insert
    intersect interval into is join last lateral left like limit natural not null nulls
    offset on only or order outer over partition preceding returning right row rows select
    set similar some table then to true unbounded union unique update using values when
    where window with""".split()
)


@dataclass(frozen=True, slots=True)
class Normalised:
    """A statement without its literals.

    ``text`` has placeholders $1 … in order of appearance; ``constants`` are the literals and
    parameters that stood there, as written; ``fingerprint`` is 16 hexadecimal digits.
    """

    text: str
    fingerprint: str
    constants: tuple[str, ...]


def normalise(sql: str) -> Normalised:
    """Group a statement; any text has a fingerprint, also one that is no SQL."""
    words: list[str] = []
    constants: list[str] = []
    kept = meaningful(sql)
    while kept and kept[-1].text == ";":
        kept.pop()
    place = 0
    while place < len(kept):
        token = kept[place]
        if _is_sign_of_number(kept, place):
            place += 1
            constants.append(token.text + kept[place].text)
            words.append(_HOLE)
        elif token.kind in _CONSTANTS or token.text == "?" or _is_word_constant(kept, place):
            constants.append(token.text)
            words.append(_HOLE)
        else:
            words.append(_plain(token))
        place += 1
    words = _fold_lists(words)
    digest = blake2b("\x00".join(words).encode("utf-8", "surrogatepass"), digest_size=8)
    return Normalised(_render(words), digest.hexdigest(), tuple(constants))


# Names made up anew each time: a session's temporary schema, tmp_20260301, temp_5f3a91bc.
_TEMPORARY_SCHEMA = re.compile(r"pg_(?:toast_)?temp_\d+")
_TEMPORARY_NAME = re.compile(r"((?:te?mp|temporary)_(?:\w*_)?)(?:\d{4,}|(?=[a-f]*\d)[0-9a-f]{8,})")


def _lasting(name: str) -> str:
    """A name without what makes each temporary one different."""
    if "temp" not in name and "tmp" not in name:
        return name
    if _TEMPORARY_SCHEMA.fullmatch(name):
        return "pg_temp"
    made_up = _TEMPORARY_NAME.fullmatch(name)
    return f"{made_up[1]}…" if made_up else name


def _plain(token: Token) -> str:
    if token.kind is TokenKind.WORD:
        return _lasting(token.text.lower())
    if token.kind is TokenKind.QUOTED:
        inner = token.text[1:-1]
        # A reserved word must stay quoted: "order" is a name, order is not.
        if _PLAIN_NAME.fullmatch(inner) and inner not in _KEYWORDS:
            return _lasting(inner)
    return "<>" if token.text == "!=" else token.text


def _is_word_constant(kept: list[Token], place: int) -> bool:
    """TRUE, FALSE and NULL are values, unless they belong to a test (IS NULL, NOT NULL …)."""
    if not kept[place].is_word("true", "false", "null"):
        return False
    return place > 0 and not kept[place - 1].is_word("is", "not", "default")


def _is_sign_of_number(kept: list[Token], place: int) -> bool:
    token = kept[place]
    if token.text not in ("-", "+") or place + 1 >= len(kept):
        return False
    if kept[place + 1].kind is not TokenKind.NUMBER:
        return False
    if place == 0:
        return True
    before = kept[place - 1]
    if before.kind is TokenKind.WORD:
        return before.text.lower() in _SIGN_WORDS
    return before.text in _SIGN_BEFORE or before.kind is TokenKind.OPERATOR


def _fold_lists(words: list[str]) -> list[str]:
    """``in ($, $, $)`` becomes ``in ($, …)``; so do rows after VALUES and ARRAY[…]."""
    folded: list[str] = []
    place = 0
    while place < len(words):
        word = words[place]
        opens = words[place + 1 : place + 2]
        if (word, *opens) in (("in", "("), ("array", "[")):
            closing = _constant_list_end(words, place + 1)
            if closing is not None:
                folded += [word, opens[0], _HOLE, ",", "…", ")" if opens[0] == "(" else "]"]
                place = closing + 1
                continue
        folded.append(word)
        place += 1
        if word == "values":
            row_end = _row_end(words, place)
            if row_end is None:
                continue
            folded += words[place : row_end + 1]
            place = row_end + 1
            place = _skip_equal_rows(words, place, folded)
    return folded


def _constant_list_end(words: list[str], opening: int) -> int | None:
    """The place of the closing bracket when the list holds nothing but constants."""
    place = opening + 1
    while place < len(words) and words[place] == _HOLE:
        if words[place + 1 : place + 2] == [","]:
            place += 2
            continue
        closes = words[place + 1 : place + 2]
        return place + 1 if closes in ([")"], ["]"]) else None
    return None


def _row_end(words: list[str], opening: int) -> int | None:
    if words[opening : opening + 1] != ["("]:
        return None
    depth = 0
    for place in range(opening, len(words)):
        depth += (words[place] == "(") - (words[place] == ")")
        if depth == 0:
            return place
    return None


def _skip_equal_rows(words: list[str], place: int, folded: list[str]) -> int:
    skipped = False
    while words[place : place + 2] == [",", "("]:
        row_end = _row_end(words, place + 1)
        if row_end is None:
            break
        place, skipped = row_end + 1, True
    if skipped:
        folded += [",", "…"]
    return place


def _render(words: list[str]) -> str:
    parts: list[str] = []
    number = 0
    before = ""
    for word in words:
        text = word
        if word == _HOLE:
            number += 1
            text = f"${number}"
        elif word in _KEYWORDS:
            text = word.upper()
        if parts and not _tight(before, word):
            parts.append(" ")
        parts.append(text)
        before = word
    return "".join(parts)


def _tight(before: str, word: str) -> bool:
    if word in _TIGHT_BEFORE or before in _TIGHT_AFTER:
        return True
    if word == "[":
        return before != _HOLE
    # A keyword keeps its space before a bracket: IN (…), AND (…).
    return word == "(" and bool(_PLAIN_NAME.fullmatch(before)) and before not in _KEYWORDS
