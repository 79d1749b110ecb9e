"""Tidying up after trials that were broken off by a crash."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.entries import TrialEntry
from humble_ledger.engines.contract import Leftovers
from humble_ledger.workflow.processes import still_runs
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Tidied:
    """A trial that was never closed, what was found of it on the target, and what was done.

    ``runs`` tells whether its process still runs: None when that cannot be known.
    """

    trial: TrialEntry
    found: Leftovers
    removed: bool
    runs: bool | None


def tidy(workspace: Workspace, remove: bool = True, force: bool = False) -> list[Tidied]:
    """Find what broken-off trials left on their targets, and remove it.

    A trial whose process still runs is left alone. On another host that cannot be known;
    then ``force`` is needed.
    """
    done = []
    for entry in _suspects(workspace):
        runs = still_runs(entry.process) if entry.status == "running" else False
        names = [name for _, name in entry.creations]
        # The same server may be named with other credentials today: ours come first.
        url = workspace.target.url if workspace.public_url == entry.target else entry.target
        found = workspace.engine.leftovers(url, names, entry.mark)
        ours = runs is False or (runs is None and force)
        if remove and ours:
            if found:
                workspace.engine.remove_leftovers(url, found)
            if entry.status == "running":
                workspace.ledger.trials.end(entry.id, "broken-off", None)
            else:
                workspace.ledger.trials.forget_creations(entry.id)
        done.append(Tidied(entry, found, remove and ours, runs))
    return done


def _suspects(workspace: Workspace) -> list[TrialEntry]:
    """Trials that were never closed, or that said they left something behind."""
    trials = workspace.ledger.trials.all()
    return [entry for entry in trials if entry.status == "running" or entry.creations]
