"""A new text that no index serves yet, beside an index that would."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from msgspec.structs import replace as replaced

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.remedies.candidates.model import IndexAbilities
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction, Remedy
from humble_ledger.core.remedies.prediction.contract import Asked, Predictor
from humble_ledger.core.remedies.rewrites.comparisons import rewritings as comparisons
from humble_ledger.core.remedies.rewrites.narrowed_groups import groups_asked_for
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.constants import Constants
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.errors import RefusedForSafety, StatementRejected
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.abilities import abilities_for
from humble_ledger.workflow.supposing.predictors import predictor_of
from humble_ledger.workflow.workspace import Workspace

MOST_TRIED = 12  # indexes, the first that the rules come to


def beside_an_index(
    workspace: Workspace,
    entry: PlanEntry,
    tables: Mapping[TableName, TableFacts],
    remedy: Remedy,
    progress: Progress,
) -> Remedy | None:
    """A rewriting with the index that makes it clearly cheaper, where none serves the old text.

    None where no index is clearly worth it, or one of plain columns serves the old text as well;
    one on the very expression is for when the text must stay. The cost of the present plan is an
    estimate, the new one's a prediction.
    """
    now = entry.plan.cost_total
    text = remedy.rewrite
    if now is None or entry.query is None or text is None:
        return None
    new = Statement(text.new, entry.parameters)
    try:
        plan = workspace.session.explain(new).plan
    except (StatementRejected, RefusedForSafety):
        return None
    predictor, _ = predictor_of(workspace, progress)
    means = abilities_for(workspace, Constants.of_text(new.sql))
    best = _cheapest(predictor, Asked.of(new, plan, tables), tables, means)
    if best is None or now < CLEAR_GAIN * best[0]:
        return None
    cost, design, route = best
    old = Asked.of(Statement(entry.statement, entry.parameters), entry.plan, tables)
    alone = _cheapest(predictor, old, tables, means, of_columns=True)
    if alone is not None and alone[0] <= CLEAR_GAIN * cost:
        return None  # an index does it without another text
    size = predictor.shape(design, tables[design.table]).size_bytes(tables[design.table].page_bytes)
    return replace(
        remedy,
        summary=f"{remedy.summary}, beside an index on {design.words}",
        predictions=(Prediction(entry.query, now, cost, predictor.way, "the present plan", route),),
        size_bytes_predicted=size,
        operation=replaced(text, beside=design),
    )


def waits_for_an_index(
    remedy: Remedy,
    statement: str,
    tables: Mapping[TableName, TableFacts],
    dialect: Dialect,
    *,
    alone: bool,
) -> bool:
    """Whether a rewriting asks for groups one by one, or turns comparisons and is no better
    ``alone``: without an index that leads to the rows it may well be no better.
    """
    ways = (comparisons, groups_asked_for) if alone else (groups_asked_for,)
    return remedy.rewrite is not None and any(
        each.sql == remedy.rewrite.new for way in ways for each in way(statement, tables, dialect)
    )


def _cheapest(
    predictor: Predictor,
    asked: Asked,
    tables: Mapping[TableName, TableFacts],
    means: IndexAbilities,
    *,
    of_columns: bool = False,
) -> tuple[float, IndexDesign, str] | None:
    """The least cost that one index brings (``of_columns`` alone), that index, and its route."""
    found = []
    designs = dict.fromkeys(
        each.design
        for each in candidates(asked.plan, tables, means)
        if not (of_columns and any(not key.column for key in each.design.keys))
    )
    for design in list(designs)[:MOST_TRIED]:
        told = predictor.outlook(asked, [design])
        if told.used:
            found.append((told.cost, design, told.used[0].route))
    return min(found, key=lambda each: each[0], default=None)
