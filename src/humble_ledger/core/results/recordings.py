"""What a recording of a target holds."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Recording:
    """A file of answers: its statements, how many answers and trials, and what was refused.

    ``refused`` has what the target did not answer, with its reason.
    """

    path: str
    statements: tuple[str, ...]
    answers: int
    trials: int
    masked: bool
    refused: tuple[tuple[str, str], ...] = ()
