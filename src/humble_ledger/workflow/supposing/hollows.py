"""The copies of targets that lie on this machine: made, listed, removed."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.core.remedies.asked import setting
from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.engines.contract import HOLLOW_SCHEME
from humble_ledger.engines.registry import engine_of_files, engines
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Built:
    """A copy that is there now: of what, in how many ms, what it lacks, and whether it stays.

    One that ``holds_rows`` gets those of a table when a statement first names it.
    """

    target: str
    took_ms: float
    notes: tuple[str, ...]
    kept: bool = True
    holds_rows: bool = False


def build(workspace: Workspace, progress: Progress = lambda _: None) -> Built:
    """Make the copy of the target, or find it still true.

    Raises:
        TargetUnreachable: none can be made here.
    """
    began = time.perf_counter()
    made = workspace.hollow(progress)
    took_ms = (time.perf_counter() - began) * 1000.0
    return Built(
        workspace.public_url,
        took_ms,
        tuple(made.notes),
        workspace.keeps_hollow,
        workspace.server().hollow_holds_rows,
    )


def build_from(
    files: Sequence[Path],
    name: str,
    settings: Sequence[str] = (),
    progress: Progress = lambda _: None,
) -> Built:
    """Make a copy from files that were handed over: a target without a server.

    Raises:
        WrongUsage: the name or a setting cannot be used.
        UnreadableInput: the files hold no schema that can be read.
        TargetUnreachable: no server can be started here.
    """
    began = time.perf_counter()
    given = [pair for text in settings for pair in setting(text).settings]
    made = engine_of_files().build_hollow(name, files, given, progress)
    return Built(made.target, (time.perf_counter() - began) * 1000.0, tuple(made.notes))


def kept() -> list[KeptHollow]:
    """What lies on this machine, of every engine."""
    return [each for engine in engines() for each in engine.kept_hollows()]


def drop(names: Sequence[str] = ()) -> tuple[int, Sequence[str]]:
    """Remove those of these names, or all; how many there were, and what is in use.

    Raises:
        WrongUsage: there is none of a name.
    """
    before = len(kept())
    given = [name.removeprefix(HOLLOW_SCHEME) for name in names]
    some = [engine_of_files()] if given else engines()
    left = [folder for engine in some for folder in engine.drop_hollows(given)]
    return before - len(kept()), left
