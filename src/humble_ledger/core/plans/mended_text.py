"""What mail programs, chats, tickets and terminals do to a plan's text, undone.

None of these texts is better than the one that was given: whoever reads plans tries that first,
and takes another only where it tells more.
"""

from __future__ import annotations

import html
import re
from collections.abc import Sequence
from itertools import pairwise
from textwrap import dedent

_LETTERS = str.maketrans(
    {
        "\u00a0": " ", "\u2007": " ", "\u202f": " ", "\u2002": " ", "\u2003": " ", "\u2009": " ",
        "\u200b": "", "\u200c": "", "\u200d": "", "\u2060": "", "\ufeff": "", "\u00ad": "",
        "\u2018": "'", "\u2019": "'", "\u201a": "'", "\u2032": "'",
        "\u201c": '"', "\u201d": '"', "\u201e": '"', "\u2033": '"',
        "\u2192": "->", "\u2794": "->", "\u279c": "->", "\u21d2": "=>",
        "\u2010": "-", "\u2011": "-", "\u2212": "-",
    }
)  # fmt: skip
_DASH = re.compile("[\u2013\u2014](?=>)")
# Outside of literals these are what a program made of quotes, or signs cut off.
_FOREIGN = "\u2018\u2019\u201a\u201c\u201d\u201e\u00a0\u2192"
_LITERAL = re.compile(r"'(?:[^']|'')*'")
_FENCE = re.compile(r"^[ \t]*(?:```|~~~)\w*[ \t]*$", re.MULTILINE)
_QUOTED = re.compile(r"^\s?(?:>\s?)+")
_NUMBERED = re.compile(r"^(?P<blank>\s*)(?P<number>\d+)(?P<sign>[:.|)]?)(?= |\t|$)")
_MOST = 0.8  # of the lines bear a mark, or it is none
# What begins a line of its own in one of the forms that plans have.
_BEGINS = re.compile(
    r"^\s*(?:->|[|+•├└│*`]|[A-Z][\w /()-]{0,40}:|\(\d+ rows?\)|--|={3,}|-{3,}|\d+ - |[{}\[\]<\"])"
)
# What never begins one.
_GOES_ON = re.compile(r"^\s*(?:[(),.=<>!'\"a-z0-9]|AND\b|OR\b)")
SHORTEST_WRAPPED = 50


def mended(text: str) -> Sequence[str]:
    """Other readings of a text, each with more undone than the last; [] where none differs."""
    found: list[str] = []
    plain = _plain(text)
    for each in (plain, unwrapped(plain)):
        if each.strip() != text.strip() and each not in found:
            found.append(each)
    return found


def plainness(condition: str) -> int:
    """How much of a condition is there, in letters, less what no server writes."""
    bare = html.unescape(condition)
    without = _LITERAL.sub("''", bare)
    foreign = sum(without.count(sign) for sign in _FOREIGN) + (bare != condition)
    letters = bare.translate(_LETTERS)
    return len(letters) - letters.count(" ") - 100 * foreign


def _plain(text: str) -> str:
    found = _DASH.sub("-", text.translate(_LETTERS)).expandtabs(8)
    if "&lt;" in found or "&gt;" in found:
        found = html.unescape(found)
    fences = list(_FENCE.finditer(found))
    if len(fences) >= 2:
        found = found[fences[0].end() : fences[1].start()]
    lines = _without_numbers(_without_quotes(found.split("\n")))
    return dedent("\n".join(_without_quotes(lines)))


def _without_quotes(lines: list[str]) -> list[str]:
    """Lines without the signs that a mail program puts before what it answers to."""
    quoted = [line for line in lines if _QUOTED.match(line)]
    written = [line for line in lines if line.strip()]
    if not quoted or len(quoted) < _MOST * len(written):
        return lines
    bare = [_QUOTED.match(line) for line in lines]
    depth = min(found[0].count(">") for found in bare if found is not None)
    strip = re.compile(rf"^\s?(?:>\s?){{{depth}}}")
    return [strip.sub("", line) for line in lines]


def _without_numbers(lines: list[str]) -> list[str]:
    """Lines without numbers before them, when these go up by one from line to line."""
    found = [(line, _NUMBERED.match(line)) for line in lines if line.strip()]
    numbers = [int(match["number"]) for _, match in found if match is not None]
    steps = [b - a for a, b in pairwise(numbers)]
    if len(numbers) < max(3.0, _MOST * len(found)) or any(step != 1 for step in steps):
        return lines
    width = max(match.end() for _, match in found if match is not None)
    blank = any(line[width : width + 1].strip() for line, match in found if match is not None)
    return [_NUMBERED.sub("", line) if blank else line[width + 1 :] for line in lines]


def unwrapped(text: str) -> str:
    """Lines that were broken for being too long, put together again."""
    lines: list[str] = []
    for line in text.split("\n"):
        if lines and line.strip() and _continues(lines[-1], line):
            # Costs stand apart by two blanks, which went with the end of the line.
            blank = "  " if line.strip().startswith("(cost=") else " "
            lines[-1] = f"{lines[-1].rstrip()}{blank}{line.strip()}"
        else:
            lines.append(line)
    return "\n".join(lines)


def _continues(before: str, line: str) -> bool:
    if not before.strip() or _BEGINS.match(line):
        return _open(before) and not re.match(r"^\s*(?:->|[|•├└│])", line)
    return _open(before) or (
        len(before.rstrip()) >= SHORTEST_WRAPPED and _GOES_ON.match(line) is not None
    )


def _open(line: str) -> bool:
    """Whether a bracket is still open at the end of a line."""
    bare = re.sub(r"'(?:[^']|'')*'", "", line)
    return bare.count("(") > bare.count(")")
