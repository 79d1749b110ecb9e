"""What the server keeps of columns together, taken apart and written again.

The forms are those of `src/backend/statistics/mvdistinct.c` and `dependencies.c`, the same for
the servers 13 to 18. They name columns by number, and a copy of a table from which a column was
dropped has other numbers.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence

_HEADER = struct.Struct("=III")
_DISTINCT, _DEPENDENCY = struct.Struct("=di"), struct.Struct("=dh")
_MAGIC_DISTINCT, _MAGIC_DEPENDENCIES, _TYPE = 0xA352BFA4, 0xB4549A2C, 1

Item = tuple[float, tuple[int, ...]]


def distinct_items(stored: bytes) -> list[Item]:
    """How many different groups there are of each combination of columns, by their numbers."""
    return _items(stored, _DISTINCT)


def dependency_items(stored: bytes) -> list[Item]:
    """To what degree columns determine the last of their combination."""
    return _items(stored, _DEPENDENCY)


def stored_distinct(items: Sequence[Item]) -> bytes:
    """Numbers of groups as the server keeps them."""
    return _stored(_MAGIC_DISTINCT, items, _DISTINCT)


def stored_dependencies(items: Sequence[Item]) -> bytes:
    """Degrees of dependency as the server keeps them."""
    return _stored(_MAGIC_DEPENDENCIES, items, _DEPENDENCY)


def renumbered(items: Sequence[Item], numbers: Mapping[int, int]) -> list[Item]:
    """The items with other numbers for the columns; expressions have numbers of their own."""
    return [(figure, tuple(numbers.get(n, n) for n in columns)) for figure, columns in items]


def _items(stored: bytes, head: struct.Struct) -> list[Item]:
    _, _, count = _HEADER.unpack_from(stored)
    found, place = [], _HEADER.size
    for _ in range(count):
        figure, columns = head.unpack_from(stored, place)
        place += head.size
        found.append((figure, struct.unpack_from(f"={columns}h", stored, place)))
        place += 2 * columns
    return found


def _stored(magic: int, items: Sequence[Item], head: struct.Struct) -> bytes:
    parts = [_HEADER.pack(magic, _TYPE, len(items))]
    for figure, columns in items:
        parts.append(head.pack(figure, len(columns)))
        parts.append(struct.pack(f"={len(columns)}h", *columns))
    return b"".join(parts)
