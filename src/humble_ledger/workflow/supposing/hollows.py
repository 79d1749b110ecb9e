"""The copies without rows that lie on this machine: made, listed, removed."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.engines.registry import engines
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Built:
    """A copy that is there now: of what, in how many ms, and what it lacks."""

    target: str
    took_ms: float
    notes: tuple[str, ...]


def build(workspace: Workspace, progress: Progress = lambda _: None) -> Built:
    """Make the copy of the target, or find it still true.

    Raises:
        TargetUnreachable: none can be made here.
    """
    began = time.perf_counter()
    made = workspace.hollow(progress)
    return Built(workspace.public_url, (time.perf_counter() - began) * 1000.0, tuple(made.notes))


def kept() -> list[KeptHollow]:
    """What lies on this machine, of every engine."""
    return [each for engine in engines() for each in engine.kept_hollows()]


def drop() -> tuple[int, Sequence[str]]:
    """Remove all of them; how many there were, and the folders that are in use."""
    before = len(kept())
    left = [folder for engine in engines() for folder in engine.drop_hollows()]
    return before - len(kept()), left
