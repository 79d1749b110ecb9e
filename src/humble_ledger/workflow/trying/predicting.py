"""What is predicted for the queries of a trial, before anything of it is made."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.costs.unknown import UnknownCosts
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.prediction.formula import WAY
from humble_ledger.core.trials.model import PredictedCost
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import table_names
from humble_ledger.workflow.reading.wholes import with_wholes
from humble_ledger.workflow.supposing.predictors import predictor_of
from humble_ledger.workflow.trying.making import Making
from humble_ledger.workflow.workspace import Workspace


def predicted_costs(
    workspace: Workspace, making: Making, tried: Sequence[TriedQuery], progress: Progress
) -> list[PredictedCost]:
    """Each query's cost now, and with all indexes of the trial at once.

    With the values it will be run with, so that the trial checks this very prediction. The
    cost is unknown (None) with changes other than indexes; a query that cannot be explained is
    left out, as it is the trial that tells why.
    """
    session = workspace.session
    designs = [index.design for index in making.indexes]
    known = bool(designs) and len(designs) == len(making.entries)
    known = known and not isinstance(session.costs, UnknownCosts)
    predictor = predictor_of(workspace, progress)[0] if known else None
    found: dict[str, PredictedCost] = {}
    for each in tried:
        if each.query in found:
            continue
        progress(f"predicting {each.query}")
        try:
            plan = session.explain(each.statement).plan
            cost, way = None, WAY
            if predictor is not None:
                tables = with_wholes(session, session.tables(table_names(plan)))
                outlook = predictor.outlook(Asked.of(each.statement, plan, tables), designs)
                cost, way = outlook.cost, outlook.way
        except HumbleError:
            continue
        found[each.query] = PredictedCost(each.query, plan.cost_total or 0.0, cost, way)
    return list(found.values())
