"""What can be said of a change that cannot be made on a target: its predicted costs."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.trials.model import PredictedCost
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.proposing.studying import study
from humble_ledger.workflow.trying.making import Making
from humble_ledger.workflow.workspace import Workspace


def predicted_costs(
    workspace: Workspace, making: Making, tried: Sequence[TriedQuery], progress: Progress
) -> list[PredictedCost]:
    """Each query's cost now, and with the indexes; unknown for changes nobody can predict."""
    predictor = FormulaPredictor(workspace.session.server, workspace.session)
    designs = [index.design for index in making.indexes]
    known = bool(designs) and len(designs) == len(making.entries)
    found: dict[str, PredictedCost] = {}
    for each in tried:
        if each.query in found:
            continue
        progress(f"predicting {each.query}")
        studied = study(workspace, each.query)
        now = studied.plan.plan.cost_total or 0.0
        cost = None
        if known:
            cost = predictor.outlook(studied.plan.plan, studied.accesses, designs).cost
        found[each.query] = PredictedCost(each.query, now, cost)
    return list(found.values())
