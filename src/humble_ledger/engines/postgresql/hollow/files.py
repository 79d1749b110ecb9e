"""Files of relations that have a length and next to no content.

Source of the layouts: PostgreSQL's `src/include/storage/bufpage.h` and `access/nbtree.h`; the
b-tree's version 4 is that of the servers 12 to 18. A page is 8 KiB, a file has at most 1 GiB.
"""

from __future__ import annotations

import os
import struct
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.engines.launching.account import Account

PAGE_BYTES = 8192
SEGMENT_PAGES = 131_072
_HEADER_BYTES, _SPECIAL_BYTES = 24, 16
_LAYOUT = PAGE_BYTES | 4  # the page's size and the version of its layout
_META_MAGIC = 0x053162
_META_ROOT = 32  # root, its level, fast root, its level: where they stand in the meta page
_LEAF, _ROOT = 1, 2  # flags of a b-tree's page
_DOWNLINK_BYTES = 8
_PIVOT = 0x2000  # flag in an item's length: it leads down and holds no row


@dataclass(frozen=True, slots=True)
class RelationFiles:
    """The files of one server of ours, which belong to the user that runs it."""

    data: Path
    account: Account

    def resize(self, place: str, pages: int) -> None:
        """Give a relation so many pages; what is added takes no room on the disk.

        ``place`` is what `pg_relation_filepath` tells. Segments that are no longer needed become
        empty files: a server may hold them open.
        """
        segment, left = 0, pages
        while True:
            path = self.data / (place if segment == 0 else f"{place}.{segment}")
            here = min(left, SEGMENT_PAGES)
            if segment > 0 and here == 0 and not path.exists():
                return
            new = not path.exists()
            with path.open("ab") as file:
                os.truncate(file.fileno(), here * PAGE_BYTES)
            if new:
                path.chmod(0o600)
                self.account.hand_over(path)
            left -= here
            segment += 1

    def height(self, place: str) -> int:
        """The levels above a b-tree's leaves."""
        with (self.data / place).open("rb") as file:
            meta = file.read(PAGE_BYTES)
        return int(struct.unpack_from("<IIII", meta, _META_ROOT)[3])

    def grow_b_tree(self, place: str, pages: int, levels: int, *, emptied: bool = False) -> None:
        """Give a b-tree that was just built over a few rows a height and a length.

        Its one leaf stays where it is, or is ``emptied``; above it comes one page for each level,
        with one way down.
        """
        levels = max(0, levels)
        with (self.data / place).open("r+b") as file:
            meta = bytearray(file.read(PAGE_BYTES))
            magic = struct.unpack_from("<I", meta, _HEADER_BYTES)[0]
            if magic != _META_MAGIC:
                raise ValueError(f"{place} is no b-tree")
            has_leaf = struct.unpack_from("<I", meta, _META_ROOT)[0] != 0
            if pages <= 1 and not has_leaf:
                return  # no row has ever been in it
            if has_leaf and not emptied:
                file.seek(PAGE_BYTES)
                leaf = bytearray(file.read(PAGE_BYTES))
                flags = _LEAF | (_ROOT if levels == 0 else 0)
                struct.pack_into("<H", leaf, PAGE_BYTES - 4, flags)
            else:
                leaf = _page(0, _LEAF | (_ROOT if levels == 0 else 0), None)
            file.seek(PAGE_BYTES)
            file.write(leaf)
            # Block 2 is the root, the block behind the next level, the last leads to the leaf.
            for step in range(levels):
                level = levels - step
                below = 3 + step if level > 1 else 1
                file.write(_page(level, _ROOT if step == 0 else 0, below))
            root = 1 if levels == 0 else 2
            struct.pack_into("<IIII", meta, _META_ROOT, root, levels, root, levels)
            file.seek(0)
            file.write(meta)
        self.resize(place, max(pages, levels + 2))


def _page(level: int, flags: int, below: int | None) -> bytearray:
    """A b-tree's page: empty, or with one way down to a block."""
    page = bytearray(PAGE_BYTES)
    special = PAGE_BYTES - _SPECIAL_BYTES
    lower, upper = _HEADER_BYTES, special
    if below is not None:
        lower, upper = _HEADER_BYTES + 4, special - _DOWNLINK_BYTES
        # An item's pointer: offset (15 bits), state "in use" (2 bits), length (15 bits).
        struct.pack_into("<I", page, _HEADER_BYTES, upper | (1 << 15) | (_DOWNLINK_BYTES << 17))
        struct.pack_into(
            "<HHHH", page, upper, below >> 16, below & 0xFFFF, 0, _DOWNLINK_BYTES | _PIVOT
        )
    # Log position, checksum, flags, lower, upper, special, layout, oldest transaction.
    struct.pack_into("<QHHHHHHI", page, 0, 0, 0, 0, lower, upper, special, _LAYOUT, 0)
    # Left and right neighbour, level, flags, vacuum's cycle.
    struct.pack_into("<IIIHH", page, special, 0, 0, level, flags, 0)
    return page
