"""A statement's wording: its text with the plain literals cut out, and the literals.

Two uses. It is a quick key for grouping: statements of the same wording have the same
fingerprint, and cutting costs a tenth of `normalise`. And it is how runs are kept: a million
runs of one query share one wording and differ in a few literals, which put back give the
very text that was sent.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

# A character of the private use area: it stands in no statement that anyone sends.
HOLE = "\ue000"
# PostgreSQL takes no such character in a text, so that it can stand between texts.
BETWEEN = "\x00"
# Strings and plain numbers. The pattern starts with a set of characters because the regular
# expression engine seeks those ten times faster than anything that starts with a look-behind.
# A quote behind one of these letters opens a string of another kind (E'…', B'…', U&'…').
_STRING = r"(?<=')(?<![eEbBxXnN&]')[^'\x00]*(?:''[^'\x00]*)*'"
_NUMBER = r"(?<=[0-9])(?<![\w$.].)[0-9]*(?:\.[0-9]+)?(?![\w.])"
_LITERAL = re.compile(rf"(['0-9](?:{_STRING}|{_NUMBER}))")
# The same where quoted names or comments may hide quotes and digits: these are stepped over.
_QUOTED_NAME = r"(?<=\")[^\"]*\""
_COMMENTS = r"(?<=/)\*(?:[^*/]|\*(?!/)|/(?!\*))*\*/|(?<=-)-[^\n\r]*"
_LITERAL_AMONG_OTHERS = re.compile(
    rf"""(['0-9](?:{_STRING}|{_NUMBER}))|(["/-](?:{_QUOTED_NAME}|{_COMMENTS}))"""
)
# What is left of these in a wording was not understood: other kinds of strings.
_NOT_UNDERSTOOD = re.compile(r"['\\]|\$(?!\d)|/\*|(?<![\w$])[uU]&\"")


def cut(sql: str) -> tuple[str, list[str]] | None:
    """The wording with a hole for each literal, and the literals as written.

    None for a statement with strings of other kinds (E'…', $$…$$): it is kept whole, and
    grouped by its tokens.
    """
    if HOLE in sql:
        return None  # it would be taken for one of ours
    parts = _LITERAL.split(sql)
    wording = HOLE.join(parts[::2])
    return (wording, parts[1::2]) if is_plain(wording) else _cut_among_others(sql)


def cut_many(texts: Sequence[str]) -> tuple[list[str], list[str]]:
    """The wordings of many statements, and all their literals in one list, in order.

    As many literals belong to a statement as its wording has holes, and both are as `cut`
    gives them where the wording `is_plain`; the others must be cut one by one. No text may have
    `BETWEEN` in it. It takes two thirds of the time of `cut` for each.
    """
    parts = _LITERAL.split(BETWEEN.join(texts))
    return HOLE.join(parts[::2]).split(BETWEEN), parts[1::2]


def is_plain(wording: str) -> bool:
    """Whether nothing but literals was cut out, and every literal.

    Quotes that are left, or comments and quoted names that may have hidden some, tell of other
    kinds of strings, or that what was taken for a literal is none.
    """
    if "'" in wording or "\\" in wording or "--" in wording or "/*" in wording:
        return False
    if "$" in wording and not _understood(wording):
        return False
    # A quoted name with digits or quotes in it.
    return '"' not in wording or not any(HOLE in name for name in wording.split('"')[1::2])


def refill(wording: str, literals: Sequence[str]) -> str:
    """The text that was sent: the literals put back into their holes."""
    if not literals:
        return wording
    parts = wording.split(HOLE)
    return "".join(piece + literal for piece, literal in zip(parts, [*literals, ""], strict=True))


def _cut_among_others(sql: str) -> tuple[str, list[str]] | None:
    """The same for statements with quoted names or comments; these stay in the wording."""
    parts = _LITERAL_AMONG_OTHERS.split(sql)  # text, literal, other, text, literal, other, …
    literals = [literal for literal in parts[1::3] if literal is not None]
    parts[1::3] = ["" if literal is None else HOLE for literal in parts[1::3]]
    others = parts[2::3]
    wording = "".join(part for part in parts if part is not None)
    if not _understood(wording):
        # Perhaps only inside a quoted name or a comment, where it means nothing.
        parts[2::3] = ['"n"' if other and other[0] == '"' else HOLE for other in others]
        if not _understood("".join(parts)):
            return None
    return wording, literals


def _understood(wording: str) -> bool:
    return _NOT_UNDERSTOOD.search(wording) is None
