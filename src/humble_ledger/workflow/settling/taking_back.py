"""Taking a change back that was kept: by its backward statements, and with a new decision."""

from __future__ import annotations

from humble_ledger.core.entries import SettlementEntry
from humble_ledger.core.remedies.migration import steps_of
from humble_ledger.errors import RefusedForSafety, WrongUsage
from humble_ledger.ledger.shelf import now
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.trying.wanted import require_own
from humble_ledger.workflow.workspace import Workspace


def require_takeable_back(workspace: Workspace, trial: str, *, on_production: bool) -> None:
    """Make sure that a kept change can be taken back here, before anybody relies on it.

    Raises:
        WrongUsage: the trial is not kept, or there is nothing to undo.
        RefusedForSafety: the target is a production server and nobody said it is meant; or the
            statements are of another ledger.
    """
    entry = workspace.ledger.trials.get(trial)
    settled = next(iter(workspace.ledger.trials.settlements(trial)), None)
    if entry.trial is None or settled is None or settled.decision != "keep":
        raise WrongUsage(
            f'{trial} is not settled with "keep", so there is no change to watch.',
            f"Make it first:  humble settle {trial} keep --apply",
        )
    remedies = [workspace.ledger.remedies.get(id_) for id_ in entry.trial.remedies]
    require_own(remedies)
    dialect = workspace.engine.dialect
    if not any(steps_of(each.remedy, dialect).backward for each in remedies):
        raise WrongUsage(f"{trial} changes nothing on a server that could be taken back.")
    if workspace.target.role is TargetRole.PRODUCTION and not on_production:
        raise RefusedForSafety(
            "The target is a production server; nothing is taken back there unless you say so.",
            "If it is meant, say  --on-production  too.",
        )


def take_back(workspace: Workspace, trial: str, reason: str) -> list[str]:
    """Run the backward statements of a kept trial, and settle it with "drop"."""
    entry = workspace.ledger.trials.get(trial)
    assert entry.trial is not None
    done: list[str] = []
    with workspace.server().admin() as admin:
        for id_ in reversed(entry.trial.remedies):
            remedy = workspace.ledger.remedies.get(id_).remedy
            for statement in steps_of(remedy, workspace.engine.dialect).backward:
                admin.do(statement)
                done.append(statement)
    told = workspace.kept_words("; ".join(done))
    workspace.ledger.trials.keep_made(trial, f"taken back on {workspace.public_url}: {told}")
    before = next(iter(workspace.ledger.trials.settlements(trial)), None)
    workspace.ledger.trials.settle(
        entry, SettlementEntry(trial, now(), "drop", workspace.kept_words(reason)), before
    )
    workspace.reconnect()  # settings of a role are those of new sessions
    return done
