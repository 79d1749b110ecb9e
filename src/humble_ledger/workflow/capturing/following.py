"""Following one statement while it runs: its plan, and the rows that came from each step so far."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.results.following import Followed
from humble_ledger.core.statements.kinds import Statement, shorten
from humble_ledger.core.statements.masking import masked
from humble_ledger.core.workload.following import (
    Look,
    percent_of,
    rows_so_far,
    rows_to_come,
)
from humble_ledger.engines.contract import PlanDocument, Running
from humble_ledger.errors import WrongUsage
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import keep_plan
from humble_ledger.workflow.workspace import Workspace

ORIGIN = "followed"
MOST_LOOKS = 2_000
LOOKS = "looks"  # where they stand in a plan's document


def follow(
    workspace: Workspace,
    session: int,
    *,
    pause_ms: float,
    seconds: float | None,
    mask: bool = False,
    progress: Progress = lambda _: None,
) -> Followed:
    """Look at a session until its statement ends, for so many seconds, or until Ctrl-C.

    The last plan that was seen is kept with all looks.

    Raises:
        WrongUsage: the session runs nothing, or there is no server that could show it.
    """
    server = workspace.session
    now = server.running(session)
    if now is None:
        raise WrongUsage(
            f"Session {session} runs nothing now, or is not there.",
            "Those that are at work, with their numbers:  humble capture live --for 5s",
        )
    first, looks, ended = now, [_look(now)], False
    plan = now.found
    end = None if seconds is None else time.monotonic() + seconds
    try:
        while len(looks) < MOST_LOOKS and (end is None or time.monotonic() < end):
            progress(_words(looks[-1], plan.plan if plan is not None else None))
            time.sleep(pause_ms / 1000.0)
            now = server.running(session)
            # The session may have gone on to its next statement meanwhile.
            if now is None or now.sql != first.sql or now.elapsed_ms < looks[-1].elapsed_ms:
                ended = True
                break
            looks.append(_look(now))
            plan = now.found or plan
    except KeyboardInterrupt:
        progress("stopping")
    entry = None
    if plan is not None:
        entry = keep_plan(
            workspace,
            Statement(first.sql),
            plan.plan,
            _with_looks(plan, looks, ended=ended),
            query=None,
            origin=ORIGIN,
            mask=mask,
        )
    hidden = mask or workspace.configuration.mask
    return Followed(session, masked(first.sql) if hidden else first.sql, looks, ended, entry)


def again(workspace: Workspace, plan: str) -> Followed:
    """What was seen when a plan was followed, from the ledger.

    Raises:
        WrongUsage: it is not of a statement that was followed.
    """
    entry = workspace.ledger.plans.get(plan)
    document = workspace.ledger.plans.document(plan)
    told = document.get(LOOKS) if isinstance(document, Mapping) else None
    if not isinstance(document, Mapping) or not isinstance(told, list):
        raise WrongUsage(
            f"{plan} was not followed while it ran.", "Follow one:  humble capture live --follow ID"
        )
    looks = [
        Look(float(each["elapsed_ms"]), {int(n): float(r) for n, r in each["rows"].items()})
        for each in told
    ]
    return Followed(0, entry.statement, looks, bool(document.get("ended", True)), entry)


def _look(now: Running) -> Look:
    rows = rows_so_far(now.found.plan) if now.found is not None else {}
    return Look(now.elapsed_ms, rows, now.done)


def _with_looks(plan: PlanDocument, looks: list[Look], *, ended: bool) -> Any:
    if not isinstance(plan.document, Mapping):
        return plan.document
    told = [
        {"elapsed_ms": each.elapsed_ms, "rows": {str(n): r for n, r in each.rows.items()}}
        for each in looks
    ]
    return {**plan.document, LOOKS: told, "ended": ended}


def _words(look: Look, plan: Plan | None) -> str:
    words = f"{look.elapsed_ms / 1000:,.1f} s"
    if look.done:
        words += ": " + "; ".join(each.words for each in look.done)
    if plan is None:
        return f"{words}  (Ctrl-C ends)"
    expected = rows_to_come(plan)
    moving = [n for n in plan.nodes() if n.no in look.rows and n.relation]
    if moving:
        step = max(moving, key=lambda n: look.rows[n.no])
        rows = look.rows[step.no]
        part = percent_of(rows, expected.get(step.no))
        told = f", {part:.0f} % of what is expected" if part is not None else ""
        words += f": step {step.no}, {shorten(step.name, 40)}, {rows:,.0f} rows{told}"
    return f"{words}  (Ctrl-C ends)"
