"""What a capture showed beyond its runs: a script by statement, samples of what runs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from humble_ledger.core.entries import (
    CaptureEntry,
)
from humble_ledger.core.workload.sampling import BlockerBranch, Samples


@dataclass(frozen=True, slots=True)
class ScriptRow:
    """One statement of a captured script, by its place in the file.

    ``fault`` is why the server rejects it, ``why_not`` why it was not explained or not run;
    both are empty when all is well. ``cost`` is the server's estimate.
    """

    line: int
    column: int
    sql: str
    query: str = ""
    plan: str = ""
    cost: float | None = None
    duration_ms: float | None = None
    fault: str = ""
    why_not: str = ""
    not_run: str = ""


@dataclass(frozen=True, slots=True)
class ScriptCapture:
    """A script's capture, statement by statement; ``measured`` tells that they were run."""

    entry: CaptureEntry
    rows: tuple[ScriptRow, ...]
    measured: bool


@dataclass(frozen=True, slots=True)
class LiveCapture:
    """What sampling showed; ``queries`` has the query's id of each statement's text."""

    entry: CaptureEntry
    samples: Samples
    blockers: tuple[BlockerBranch, ...]
    queries: Mapping[str, str]
