"""The names that a text of SQL may call, found without trusting any lexical rule.

Where a string or a comment ends depends on the server's settings and version, so a reader that
decides by such rules can be led to overlook a call. This one looks at the bare text: what stands
in a string or a comment counts, too, and every quote may begin a name. It finds too much rather
than too little; whoever asks holds the names against a catalogue, where most mean nothing.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from humble_ledger.core.statements.tokens import unquoted

MAX_NAME_BYTES = 63  # the server cuts longer names
_MOST_LETTERS = 130  # of a name, before it is cut
_MOST_QUOTES = 2  # doubled, in one name

_PLAIN = re.compile(r"[A-Za-z_\x80-\U0010ffff][\w$\x80-\U0010ffff]*")
# What may stand between a function's name and its bracket; a comment's end is not sought.
_CALL = re.compile(r"\s*(?:\(|/\*|--)")
_SCHEMA = re.compile(r'("(?:[^"]|"")+"|[A-Za-z_\x80-\U0010ffff][\w$\x80-\U0010ffff]*)\s*\.\s*\Z')
_UESCAPE = re.compile(r"UESCAPE\W{0,20}'([^'])'", re.IGNORECASE)
_LOOK_BACK = 2 * MAX_NAME_BYTES + 20
_SMALL = str.maketrans({chr(code): chr(code + 32) for code in range(ord("A"), ord("Z") + 1)})


@dataclass(frozen=True, slots=True)
class Mentions:
    """What a text names: ``called`` are (schema, name) before a bracket, with the schema "" when
    none was written and None when a comment may hide one; ``names`` is every name in it.
    """

    called: frozenset[tuple[str | None, str]]
    names: frozenset[str]


def mentions(text: str) -> Mentions:
    """Every name in a text, as the server would fold it."""
    called: set[tuple[str | None, str]] = set()
    names: set[str] = set()
    for start, name, before_bracket in _found(text):
        names.add(name)
        if before_bracket:
            called.add((_schema(text, start), name))
    return Mentions(frozenset(called), frozenset(names))


def _found(text: str) -> Iterator[tuple[int, str, bool]]:
    """Where each name may begin, the name, and whether something like a bracket follows."""
    for match in _PLAIN.finditer(text):
        called = _CALL.match(text, match.end()) is not None
        name = match[0].translate(_SMALL)
        yield match.start(), _cut(name[:_MOST_LETTERS]), called
        # It may be two: the end of a dollar quote, and what stands behind it.
        place = name.find("$")
        while place >= 0:
            rest = name[place + 1 : place + 1 + _MOST_LETTERS]
            yield match.start() + place + 1, _cut(rest), called
            place = name.find("$", place + 1)
    yield from _quoted(text)


def _quoted(text: str) -> Iterator[tuple[int, str, bool]]:
    """Whatever stands between two quotes, each of which may begin a name and end one."""
    marks = {"\\", *(match[1] for match in _UESCAPE.finditer(text))}
    pieces = text.split('"')
    place = len(pieces[0])  # of the quote before the piece
    for number, piece in enumerate(pieces[1:], 1):
        end = place + 1 + len(piece)
        name = piece[:_MOST_LETTERS]
        for begun, whole in ((place, name), *_with_quotes(pieces, number, place)):
            # A longer name is cut, and where it ends does not matter then.
            called = len(whole) >= _MOST_LETTERS or _CALL.match(text, end + 1) is not None
            yield begun, _cut(whole), called
            if text[max(0, begun - 2) : begun].upper() == "U&":
                for mark in marks:
                    yield begun - 2, _cut(_unescaped(whole, mark)), True
        place = end


def _with_quotes(pieces: list[str], number: int, place: int) -> Iterator[tuple[int, str]]:
    """Names that end with a piece and have doubled quotes in them, as far as anybody has such."""
    name, last = pieces[number][:_MOST_LETTERS], number
    for _ in range(_MOST_QUOTES):
        if last < 3 or pieces[last - 1]:
            return
        last -= 2
        before = pieces[last]
        place -= len(before) + 2
        name = f'{before}"{name}'[-_MOST_LETTERS:]
        yield place, name


def _cut(name: str) -> str:
    kept = name.encode("utf-8", "surrogatepass")[:MAX_NAME_BYTES]
    return kept.decode("utf-8", "ignore")


def _schema(text: str, start: int) -> str | None:
    before = text[max(0, start - _LOOK_BACK) : start].rstrip()
    if before.endswith("."):
        found = _SCHEMA.search(before)
        if found is None:
            return None
        quoted = found[1].startswith('"')
        return _cut(unquoted(found[1]) if quoted else found[1].translate(_SMALL))
    line = before.splitlines()[-1] if before else ""
    return None if before.endswith("*/") or "--" in line else ""


def _unescaped(name: str, mark: str) -> str:
    """A name like U&"\\0062ump" without its escapes."""
    escape = re.compile(
        rf"{re.escape(mark)}(?:\+([0-9A-Fa-f]{{6}})|([0-9A-Fa-f]{{4}})|{re.escape(mark)})"
    )

    def character(match: re.Match[str]) -> str:
        digits = match[1] or match[2]
        if not digits:
            return mark
        code = int(digits, 16)
        return chr(code) if code <= 0x10FFFF else ""

    return escape.sub(character, name)
