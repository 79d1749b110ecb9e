"""What was exported or imported."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Bundled:
    """A bundle that was written or read: how many records of each kind.

    ``known`` of them were in the ledger already when it was read.
    """

    place: str
    ledger: str
    masked: bool
    records: Mapping[str, int]
    known: Mapping[str, int] = field(default_factory=dict)
    size_bytes: int = 0
