"""Rewritings of a statement: priced by the planner, and held against small databases."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN
from humble_ledger.core.remedies.counterexamples.model import Search
from humble_ledger.core.remedies.counterexamples.searching import Pair
from humble_ledger.core.remedies.model import Prediction, Remedy
from humble_ledger.core.results.proposals import RefusedRewriting
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.errors import RefusedForSafety, StatementRejected
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.proposing.beside import beside_an_index, waits_for_an_index
from humble_ledger.workflow.supposing.counterexamples import checked_of, counterexample
from humble_ledger.workflow.workspace import Workspace

PLANNER = "planner"
WORTH_BUILDING = 2.0  # times that an index must make a new text cheaper which helps without


@dataclass(frozen=True, slots=True)
class Rewrites:
    """Rewritings worth a trial, and those that were found to mean something else."""

    remedies: tuple[Remedy, ...]
    refused: tuple[RefusedRewriting, ...]


def rewrites(
    workspace: Workspace,
    entry: PlanEntry,
    tables: Mapping[TableName, TableFacts],
    found: Iterable[Remedy],
    progress: Progress = lambda _: None,
) -> Rewrites:
    """Those of the rewritings that the planner finds cheaper and that no small database refutes."""
    kept, refused = [], []
    dialect = workspace.engine.dialect
    for remedy in found:
        priced = _priced(workspace, entry, remedy)
        if waits_for_an_index(remedy, entry.statement, tables, dialect, alone=priced is None):
            indexed = beside_an_index(workspace, entry, tables, remedy, progress)
            priced = _clearly_better(indexed, priced)
        if priced is None:
            continue
        if priced.question:  # it is meant to give another result
            kept.append(priced)
            continue
        assert priced.rewrite is not None
        progress("searching for rows on which a rewritten statement means something else")
        told = counterexample(
            workspace,
            tables,
            Pair.of(Statement(entry.statement, entry.parameters), priced.rewrite),
            progress,
        )
        if told.example is not None and told.refuted:
            refused.append(RefusedRewriting(entry.query or "", priced.summary, told.example.words))
        else:
            kept.append(_with(priced, told))
    return Rewrites(tuple(kept), tuple(refused))


def _with(remedy: Remedy, found: Search) -> Remedy:
    reason = remedy.reason
    if found.missing:
        needs = " and ".join(each.words for each in found.missing)
        reason = f"the result is the same when {needs}, which the schema does not promise"
    return replace(remedy, reason=reason, checked=checked_of(found))


def _clearly_better(indexed: Remedy | None, alone: Remedy | None) -> Remedy | None:
    """The rewriting beside an index, where that is worth building for it; else without."""
    if indexed is None or alone is None:
        return indexed or alone
    ((by_index,), (without,)) = (indexed.predictions, alone.predictions)
    worth = without.cost_predicted >= WORTH_BUILDING * by_index.cost_predicted
    return indexed if worth else alone


def _priced(workspace: Workspace, entry: PlanEntry, remedy: Remedy) -> Remedy | None:
    """A rewriting with the planner's estimate of it; None when it would not clearly help.

    What takes away the cause of a symptom need only not be dearer: estimates know little of
    the work that it spares.
    """
    assert remedy.rewrite is not None
    now = Statement(entry.statement, entry.parameters)
    try:
        plan = workspace.session.explain(Pair.of(now, remedy.rewrite).new).plan
    except (StatementRejected, RefusedForSafety):
        return None  # it was written for another dialect than the tree's
    before, after = entry.plan.cost_total, plan.cost_total
    if before is None or after is None or entry.query is None:
        return None
    if before < (1.0 if remedy.direct else CLEAR_GAIN) * after:
        return None
    step = "the present plan"
    told = Prediction(entry.query, before, after, PLANNER, step, said(plan))
    return replace(remedy, predictions=(told,))
