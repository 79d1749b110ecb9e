"""What was found of the ledger itself."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class LedgerCheck:
    """A look at every entry: how many there are of each kind, and what is wrong."""

    place: str
    size_bytes: int
    entries: Mapping[str, int]
    faults: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Pruned:
    """What was removed of what is older than a moment, or would be when ``only_asked``."""

    before: str
    removed: Mapping[str, int]
    stays: str
    only_asked: bool
    bytes_before: int = 0
    bytes_after: int = 0
