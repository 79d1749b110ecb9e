"""Rewritings held against small databases before a trial: with its values, by today's schema."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.counterexamples.searching import Pair
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.supposing.counterexamples import checked_of, counterexample
from humble_ledger.workflow.workspace import Workspace


def held_against(
    workspace: Workspace, entry: RemedyEntry, tried: Sequence[TriedQuery], progress: Progress
) -> RemedyEntry:
    """The remedy with what a search for a counterexample found; others as they are.

    The data at hand may hold no NULL today, and a comparison of results on it proves nothing
    for tomorrow.
    """
    remedy = entry.remedy
    if remedy.rewrite is None or remedy.question:
        return entry
    pair = Pair.of(tried[0].statement, remedy.rewrite)
    progress("searching for rows on which the other text means something else")
    found = checked_of(counterexample(workspace, {}, pair, progress))
    return workspace.ledger.remedies.keep(replace(remedy, checked=found))
