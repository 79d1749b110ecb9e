"""What a planted case is."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Case:
    """A statement, the findings an expert would accept, and those that would be false."""

    name: str
    sql: str
    wanted: tuple[str, ...] = ()
    wrong: tuple[str, ...] = ()
    measured: bool = False
    writes: bool = False
    settings: tuple[str, ...] = ()
