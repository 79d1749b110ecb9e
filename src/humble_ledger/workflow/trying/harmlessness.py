"""What a trial may set going beside its statements, found out before anything is made."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.side_effects import is_allowed, refuse_run
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.workflow.trying.pairing import MOST_REPEATS
from humble_ledger.workflow.workspace import Workspace

_FIRST_RUNS = 4  # cold, for the result, for the measured plan, for warming up


def require_harmless(
    workspace: Workspace,
    tried: Sequence[TriedQuery],
    entries: Sequence[RemedyEntry],
    *,
    writes: bool,
) -> None:
    """Refuse statements and changes that may act outside of the transaction they are tried in.

    Raises:
        RefusedForSafety: one of them calls what was not allowed by name.
        UnreadableInput: the server holds a statement for none that has a plan.
    """
    session = workspace.session
    for each in tried:
        session.require_run(each.statement, writes=writes)
    for entry in entries:
        remedy = entry.remedy
        text = remedy.rewrite
        if text is not None:
            values = () if text.values_from else tried[0].statement.values
            session.require_run(Statement(text.new, values))
            if text.values_from:
                session.require_run(Statement(text.values_from))
            continue
        for sql in remedy.apply:
            _require(workspace, sql)


def _require(workspace: Workspace, text: str) -> None:
    """An index, statistics or a change of the user's may compute something for every row."""
    refuse_run(workspace.session.side_effects(Statement(text)), workspace.limits.may_call)


def repetition_of_side_effects(
    workspace: Workspace, tried: Sequence[TriedQuery], most_pairs: int, *, writes: bool
) -> str:
    """How often what was allowed to act outside will be called, in words; "" when nothing is."""
    names: dict[str, None] = {}
    for each in tried:
        for found in workspace.session.side_effects(each.statement, writes=writes):
            if is_allowed(found, workspace.limits.may_call):
                names[found.name] = None
    if not names:
        return ""
    runs = 2 * (most_pairs + _FIRST_RUNS)
    return (
        f"{', '.join(names)}: called by every run of a statement, up to {runs:,} times each, and "
        f"{MOST_REPEATS} times as often where a run takes less than a millisecond or so; what it "
        "does outside of its transaction is not undone."
    )
