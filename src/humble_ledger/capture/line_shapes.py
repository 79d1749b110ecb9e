"""Lines of a log known by their shape: the bytes of the line with all digits alike.

Most lines of a large log are the same but for digits: in the time, the process, the duration,
the keys and dates of the statement. Where the shape of a line was met before, it is known where
its parts stand, and nothing must be searched: that takes a fifth of the time. A shape is only
learned from a line whose digits are all in such parts or mean nothing, so that lines of one
shape differ in nothing else.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from humble_ledger.core.statements.wording import HOLE

MOST_KNOWN = 20_000
MOST_MET = 200_000
MOST_BYTES = 8 * 1024 * 1024  # of their keys: long statements must not fill the memory
_ALIKE = bytes.maketrans(b"123456789", b"000000000")
NOWHERE = slice(0, 0)


class Shape(NamedTuple):
    """Where the parts of a line stand, in characters.

    ``wording`` is that of the statement that ran; None for a line that adds its ``detail`` to
    the row before it in its session. ``client`` is given as it is when it has no digits, else
    the places of its parts are.
    """

    session: slice
    detail: slice = NOWHERE
    time: slice = NOWHERE
    client: tuple[str, str, str] | None = None
    client_parts: tuple[slice, slice, slice] = (NOWHERE, NOWHERE, NOWHERE)
    duration: slice = NOWHERE
    wording: str | None = None
    literals: tuple[slice, ...] = ()


class Shapes:
    """The shapes met so far; given up where most lines have a shape of their own."""

    def __init__(self) -> None:
        self._known: dict[bytes, Shape] = {}
        # Of keys: met once so far, and those whose lines have digits that may mean more.
        self._once: set[int] = set()
        self._digits_mean_more: set[int] = set()
        self._met = self._asked = self._bytes = 0
        self.useful = True

    def of(
        self, data: bytes, line_end: re.Pattern[bytes] | None = None
    ) -> tuple[list[bytes], list[Shape | None], list[int]]:
        """The shape of each line as a key to learn it by, what is known of it, and the places
        of the lines of which nothing is known. ``line_end`` is b"\\n" when not given.
        """
        alike = data.translate(_ALIKE)
        keys = alike.split(b"\n") if line_end is None else line_end.split(alike)
        found = list(map(self._known.get, keys))
        unknown = [place for place, shape in enumerate(found) if shape is None]
        self._asked += len(found)
        self._met += len(found) - len(unknown)
        return keys, found, unknown

    def learn(self, key: bytes, find: Callable[[], Shape | None]) -> None:
        """Keep a shape that was met twice and is not known yet; ``find`` gives none for a line
        whose digits may mean more.

        Most shapes of a log whose statements all differ are never met again: finding them would
        take half of the time.
        """
        if key in self._known:  # many lines of the first block are alike
            return
        met = hash(key)
        if met not in self._once:
            _add(self._once, met)
            if len(self._once) > MOST_KNOWN and 2 * self._met < self._asked:
                self.useful = False
                self._known.clear()
            return
        if met in self._digits_mean_more:
            return
        if len(self._known) < MOST_KNOWN and self._bytes < MOST_BYTES:
            shape = find()
            if shape is not None:
                self._known[key] = shape
                self._bytes += len(key)
            else:
                _add(self._digits_mean_more, met)


def _add(met: set[int], key: int) -> None:
    if len(met) >= MOST_MET:
        met.clear()
    met.add(key)


def client_of(
    line: str, user: slice, database: slice, application: slice
) -> tuple[str, str, str] | None:
    """The client whose parts stand there; None when it has digits, which a shape does not tell."""
    who = (line[user], line[database], line[application])
    return None if any(c.isdigit() for part in who for c in part) else who


def literal_places(
    line: str, places: Sequence[int], wording: str, literals: Sequence[str]
) -> tuple[slice, ...] | None:
    """Where the literals of a statement stand in its line.

    ``places`` are the places of the statement's characters in the line, and of its end. None
    when the statement has digits besides its literals, or a literal stands there in another
    form.
    """
    if any(character.isdigit() for character in wording):
        return None
    found, place = [], 0
    for piece, literal in zip(wording.split(HOLE), literals, strict=False):
        place += len(piece)
        found.append(slice(places[place], places[place + len(literal)]))
        place += len(literal)
    if any(line[at] != literal for at, literal in zip(found, literals, strict=True)):
        return None
    return tuple(found)
