"""The predictions that trials have checked."""

from __future__ import annotations

from humble_ledger.core.trials.honesty import Checked, Honesty, honesty
from humble_ledger.workflow.workspace import Workspace


def checked_predictions(workspace: Workspace) -> Honesty:
    """Of every trial of one remedy: what was predicted for a query, and what was found.

    With several remedies at once nobody can tell whose prediction was checked.
    """
    found = []
    for entry in workspace.ledger.trials.all():
        if entry.trial is None or len(entry.trial.remedies) != 1:
            continue
        remedy = workspace.ledger.remedies.get(entry.trial.remedies[0])
        predicted = {p.query: p for p in remedy.remedy.predictions}
        for each in entry.trial.queries:
            prediction, cost = predicted.get(each.query), each.after.cost
            if prediction is None or cost is None or each.before.cost is None:
                continue
            timed = not (each.before.timed_out or each.after.timed_out)
            found.append(
                Checked(
                    entry.id,
                    remedy.id,
                    each.query,
                    prediction.way,
                    each.before.cost,
                    prediction.cost_predicted,
                    cost,
                    each.before.median_ms / max(each.after.median_ms, 1e-6) if timed else None,
                )
            )
    return honesty(found)
