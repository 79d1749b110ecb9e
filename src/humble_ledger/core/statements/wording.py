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
# Strings and plain numbers. The pattern starts with a set of characters because the regular
# expression engine seeks those ten times faster than anything that starts with a look-behind.
# A quote behind one of these letters opens a string of another kind (E'…', B'…', U&'…').
_STRING = r"(?<=')(?<![eEbBxXnN&]')[^']*(?:''[^']*)*'"
_NUMBER = r"(?<=[0-9])(?<![\w$.].)[0-9]*(?:\.[0-9]+)?(?![\w.])"
_LITERAL = re.compile(rf"(['0-9](?:{_STRING}|{_NUMBER}))")
# The same where quoted names or comments may hide quotes and digits: these are stepped over.
_QUOTED_NAME = r"(?<=\")[^\"]*\""
_COMMENTS = r"(?<=/)\*(?:[^*/]|\*(?!/)|/(?!\*))*\*/|(?<=-)-[^\n]*"
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
    if "--" in sql or "/*" in sql:
        return _cut_among_others(sql)
    parts = _LITERAL.split(sql)
    wording = HOLE.join(parts[::2])
    if "'" in wording or "\\" in wording or ("$" in wording and not _understood(wording)):
        return _cut_among_others(sql)
    if '"' in wording and any(HOLE in name for name in wording.split('"')[1::2]):
        return _cut_among_others(sql)  # a quoted name with digits or quotes in it
    return wording, parts[1::2]


def refill(wording: str, literals: Sequence[str]) -> str:
    """The text that was sent: the literals put back into their holes."""
    parts = wording.split(HOLE)
    if len(parts) == 1:
        return wording
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
