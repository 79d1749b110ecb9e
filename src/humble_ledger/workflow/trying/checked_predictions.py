"""The predictions that trials have checked."""

from __future__ import annotations

from humble_ledger.core.trials.honesty import Checked, Honesty, honesty
from humble_ledger.core.trials.model import Trial
from humble_ledger.workflow.workspace import Workspace


def checked_predictions(workspace: Workspace) -> Honesty:
    """Of every trial: what was predicted for each of its queries, and what was found."""
    found = []
    for entry in workspace.ledger.trials.all():
        if entry.trial is None:
            continue
        predicted = _predicted(workspace, entry.trial)
        for each in entry.trial.queries:
            foretold, cost = predicted.get(each.query), each.after.cost
            if foretold is None or cost is None or each.before.cost is None:
                continue
            timed = not (each.before.timed_out or each.after.timed_out)
            found.append(
                Checked(
                    entry.id,
                    " + ".join(entry.trial.remedies),
                    each.query,
                    foretold[0],
                    each.before.cost,
                    foretold[1],
                    cost,
                    each.before.median_ms / max(each.after.median_ms, 1e-6) if timed else None,
                )
            )
    return honesty(found)


def _predicted(workspace: Workspace, trial: Trial) -> dict[str, tuple[str, float]]:
    """By query the way and the cost: for all indexes of a trial at once, else the remedy's own.

    Of several remedies that are not all indexes nobody has said what they do together.
    """
    found = {
        each.query: (each.way, each.cost_predicted)
        for each in trial.predicted
        if each.cost_predicted is not None
    }
    if found or len(trial.remedies) != 1:
        return found
    remedy = workspace.ledger.remedies.get(trial.remedies[0]).remedy
    return {each.query: (each.way, each.cost_predicted) for each in remedy.predictions}
