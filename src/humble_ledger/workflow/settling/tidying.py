"""Tidying up after trials and replays that were broken off by a crash."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.entries import ReplayEntry, TrialEntry
from humble_ledger.engines.contract import Leftovers
from humble_ledger.workflow.processes import still_runs
from humble_ledger.workflow.replaying.changing import unmake
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Tidied:
    """A trial or replay that was never closed, what was found of it, and what was done.

    ``runs`` tells whether its process still runs: None when that cannot be known. ``undoings``
    are statements that take a replay's change back, ``failed`` those that could not be run.
    """

    entry: TrialEntry | ReplayEntry
    found: Leftovers
    removed: bool
    runs: bool | None
    undoings: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()

    def words(self) -> tuple[str, ...]:
        """What was found, each thing in a few words."""
        return (*self.found.words(), *(f"to undo: {text}" for text in self.undoings))


def tidy(workspace: Workspace, remove: bool = True, force: bool = False) -> list[Tidied]:
    """Find what broken-off trials and replays left on their targets, and remove it.

    One whose process still runs is left alone. On another host that cannot be known; then
    ``force`` is needed.
    """
    trials = [_tidied(workspace, entry, remove, force) for entry in _suspects(workspace)]
    replays = [
        _tidied_replay(workspace, entry, remove, force)
        for entry in workspace.ledger.replays.all()
        if entry.status == "running" or entry.undoings
    ]
    return [*trials, *replays]


def _tidied(workspace: Workspace, entry: TrialEntry, remove: bool, force: bool) -> Tidied:
    runs = still_runs(entry.process) if entry.status == "running" else False
    server = workspace.server(entry.mark, url=_url(workspace, entry))
    found = server.leftovers(entry.creations)
    ours = runs is False or (runs is None and force)
    if remove and ours:
        if found:
            server.remove_leftovers(found)
        if entry.status == "running":
            workspace.ledger.trials.end(entry.id, "broken-off", None)
        else:
            workspace.ledger.trials.forget_creations(entry.id)
    return Tidied(entry, found, remove and ours, runs)


def _tidied_replay(workspace: Workspace, entry: ReplayEntry, remove: bool, force: bool) -> Tidied:
    runs = still_runs(entry.process) if entry.status == "running" else False
    url = _url(workspace, entry)
    server = workspace.server(entry.mark, url=url)
    found = server.leftovers(())
    ours = runs is False or (runs is None and force)
    failed: list[str] = []
    if remove and ours:
        if found:
            server.remove_leftovers(found)
        failed = unmake(workspace, entry.id, url=url)
        if entry.status == "running":
            workspace.ledger.replays.end(entry.id, "broken-off", None)
    return Tidied(entry, found, remove and ours, runs, entry.undoings, tuple(failed))


def _url(workspace: Workspace, entry: TrialEntry | ReplayEntry) -> str:
    """The same server may be named with other credentials today: ours come first."""
    return workspace.target.url if workspace.public_url == entry.target else entry.target


def _suspects(workspace: Workspace) -> list[TrialEntry]:
    """Trials that were never closed, or that said they left something behind."""
    trials = workspace.ledger.trials.all()
    return [entry for entry in trials if entry.status == "running" or entry.creations]
