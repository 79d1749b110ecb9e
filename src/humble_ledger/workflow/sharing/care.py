"""The ledger's own care: a check of all its chains, a backup, and making room."""

from __future__ import annotations

from pathlib import Path

from humble_ledger.core.results.care import LedgerCheck, Pruned
from humble_ledger.core.workload.windows import parse_moment
from humble_ledger.ledger.care import entries_of, faults_of, prune
from humble_ledger.ledger.shelf import as_kept
from humble_ledger.ledger.store.place import place_of
from humble_ledger.workflow.configuration import shown_place
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace

STAYS = (
    "queries, remedies, trials, decisions, and all that is told of queries about which something "
    "was decided"
)


def check_ledger(workspace: Workspace, progress: Progress = lambda _: None) -> LedgerCheck:
    """Look at every entry, and change none."""
    ledger = workspace.ledger
    return LedgerCheck(
        str(ledger.place),
        ledger.store.size_bytes(),
        entries_of(ledger),
        tuple(faults_of(ledger, progress)),
    )


def back_up(workspace: Workspace, to: str) -> tuple[str, int]:
    """Write a copy of the ledger, also while others write to it; where it is, and its bytes.

    Raises:
        LedgerUnreachable: there is one already, or it cannot be written.
        WrongUsage: the text names no place for a ledger.
    """
    place = place_of(to, Path.cwd())
    return shown_place(place, Path.cwd()), workspace.ledger.store.back_up(place)


def prune_ledger(workspace: Workspace, older: str, *, only_ask: bool) -> Pruned:
    """Remove what is older than a time, but never what a decision rests on.

    Raises:
        WrongUsage: ``older`` is no time, like 90d.
    """
    kept = as_kept(parse_moment(older))
    ledger = workspace.ledger
    before = ledger.store.size_bytes()
    removed = prune(ledger, kept, only_ask=only_ask)
    if not only_ask:
        ledger.store.shrink()
    after = ledger.store.size_bytes()
    return Pruned(kept, removed, STAYS, only_ask, before, after)
