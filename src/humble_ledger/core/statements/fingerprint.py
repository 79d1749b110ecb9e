"""Grouping: the same statement with other literals is the same query.

The fingerprint is stable under literals, length of IN lists, number of VALUES rows, white
space, comments, case of keywords and plain names, needless quoting of names, and style of
parameters. It never merges statements that differ in tables, columns or operators.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from hashlib import blake2b

from humble_ledger.core.statements.tokens import kinds_and_texts

# What does not end is a statement that was cut off, most likely inside of a literal.
_CONSTANTS = frozenset(("string", "number", "parameter", "unclosed"))
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
    found = _simple(sql)
    words, constants = _words(sql) if found is None else found
    words = _fold_lists(words)
    digest = blake2b("\x00".join(words).encode("utf-8", "surrogatepass"), digest_size=8)
    return Normalised(_render(words), digest.hexdigest(), tuple(constants))


def _words(sql: str) -> tuple[list[str], list[str]]:
    """The words of a statement with a hole for each constant, and the constants."""
    words: list[str] = []
    constants: list[str] = []
    kinds, texts = kinds_and_texts(sql)
    while texts and texts[-1] == ";":
        kinds.pop()
        texts.pop()
    place, count = 0, len(texts)
    while place < count:
        kind, text = kinds[place], texts[place]
        if kind == "word":
            small = text.lower()
            if small in _WORD_CONSTANTS and _is_word_constant(texts, place):
                constants.append(text)
                words.append(_HOLE)
            else:
                words.append(_lasting(small))
        elif kind in _CONSTANTS or text == "?":
            constants.append(text)
            words.append(_HOLE)
        elif text in _SIGNS and _is_sign_of_number(kinds, texts, place):
            place += 1
            constants.append(text + texts[place])
            words.append(_HOLE)
        elif kind == "quoted":
            words.append(_plain_quoted(text))
        else:
            words.append("<>" if text == "!=" else text)
        place += 1
    return words, constants


# Tokens whose kind shows without a look around: plain names, constants that nothing follows which
# could belong to them, brackets and plain comparisons. The group stays empty for all else.
_SIMPLE = re.compile(
    r"""([A-Za-z_][A-Za-z0-9_]*+(?!['$\x80-\U0010ffff])
        |'[^'\\]*+'(?!\s*+')|(?<!\.)[0-9]++(?:\.[0-9]++)?(?![\w.$])|\$[0-9]++
        |[*<>=!]++|::|[()\[\],;.]|"[^"]*+"(?!"))
        |[^\ \t\n\r\f\v]""",
    re.VERBOSE,
)
_COMPARISONS = frozenset(("*", "<", ">", "=", "<=", ">=", "<>", "!="))
_BEGIN_CONSTANTS = frozenset("'$0123456789")
_MOST_KNOWN = 20_000
_known: dict[str, str] = {text: text for text in (*"()[],;.", "::", *_COMPARISONS)} | {"!=": "<>"}


def _simple(sql: str) -> tuple[list[str], list[str]] | None:
    """`_words` of a statement whose tokens are all simple; None for the others.

    A log may have a hundred thousand different statements, nearly all of them simple; this
    takes a third of the time.
    """
    words: list[str] = []
    constants: list[str] = []
    for text in _SIMPLE.findall(sql):
        word = _known.get(text)
        if word is None:
            if not text:
                return None
            if text[0] in _BEGIN_CONSTANTS:
                constants.append(text)
                word = _HOLE
            else:
                word = _simple_word(text)
                if word is None:
                    return None
        words.append(word)
    while words and words[-1] == ";":
        words.pop()
    return words, constants


def _simple_word(text: str) -> str | None:
    """The word of a name; None for another operator, or what may be a constant."""
    if text[0] == '"':
        word = _plain_quoted(text)
    elif (small := text.lower()) in _WORD_CONSTANTS or text[0] in "*<>=!":
        return None
    else:
        word = _lasting(small)
    if len(_known) < _MOST_KNOWN:
        _known[text] = word
    return word


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


def _plain_quoted(text: str) -> str:
    inner = text[1:-1]
    # A reserved word must stay quoted: "order" is a name, order is not.
    if _PLAIN_NAME.fullmatch(inner) and inner not in _KEYWORDS:
        return _lasting(inner)
    return text


_WORD_CONSTANTS = frozenset(("true", "false", "null"))
_SIGNS = frozenset("-+")


def _is_word_constant(texts: list[str], place: int) -> bool:
    """TRUE, FALSE and NULL are values, unless they belong to a test (IS NULL, NOT NULL …)."""
    return place > 0 and texts[place - 1].lower() not in ("is", "not", "default")


def _is_sign_of_number(kinds: list[str], texts: list[str], place: int) -> bool:
    if place + 1 >= len(kinds) or kinds[place + 1] != "number":
        return False
    if place == 0:
        return True
    before = texts[place - 1]
    if kinds[place - 1] == "word":
        return before.lower() in _SIGN_WORDS
    return before in _SIGN_BEFORE or kinds[place - 1] == "operator"


def _fold_lists(words: list[str]) -> list[str]:
    """``in ($, $, $)`` becomes ``in ($, …)``; so do rows after VALUES and ARRAY[…]."""
    if _FOLDED.isdisjoint(words):
        return words
    folded: list[str] = []
    place = 0
    while place < len(words):
        word = words[place]
        if word in ("in", "array"):
            opens = words[place + 1] if place + 1 < len(words) else ""
            if (word, opens) in (("in", "("), ("array", "[")):
                closing = _constant_list_end(words, place + 1)
                if closing is not None:
                    folded += [word, opens, _HOLE, ",", "…", ")" if opens == "(" else "]"]
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


_FOLDED = frozenset(("in", "array", "values"))


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
    before = "("  # nothing, before which there is no space either
    for word in words:
        loose = word not in _TIGHT_BEFORE and before not in _TIGHT_AFTER
        if loose and (word not in _OPENING or not _is_tight(before, word)):
            parts.append(" ")
        if word == _HOLE:
            number += 1
            parts.append(f"${number}")
        elif word in _KEYWORDS:
            parts.append(word.upper())
        else:
            parts.append(word)
        before = word
    return "".join(parts)


_OPENING = frozenset("([")


def _is_tight(before: str, opening: str) -> bool:
    """Whether a bracket stands right behind a word: of a call, or of an element."""
    if opening == "[":
        return before != _HOLE
    # A keyword keeps its space before a bracket: IN (…), AND (…).
    return bool(_PLAIN_NAME.fullmatch(before)) and before not in _KEYWORDS
