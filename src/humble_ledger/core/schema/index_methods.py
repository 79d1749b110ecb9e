"""How an index is kept, as far as predictions and rules tell kinds apart."""

from __future__ import annotations

from enum import StrEnum


class IndexMethod(StrEnum):
    """Kinds of index, by the words that servers have for them.

    An engine gives these for its own kinds; what is none of them is known by its own word.
    """

    SORTED = "btree"  # in the order of its keys
    INVERTED = "gin"  # from the parts of a value to its rows
    ENCLOSING = "gist"  # a tree of shapes that enclose the values
    BLOCK_RANGES = "brin"  # the least and greatest value of each range of pages
