"""A change made for everybody in the middle of a replay, and taken back at its end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.engines.contract import Capability
from humble_ledger.engines.registry import engine_for
from humble_ledger.errors import HumbleError, RefusedForSafety, StatementRejected, WrongUsage
from humble_ledger.workflow.trying.making import making_of
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Step:
    """Statements on the target, and those that undo all of them, each in its order.

    An ``online`` one makes nobody wait, and so may itself wait long for others; what it makes
    has a name of its own, which undoing cannot mistake for somebody else's.
    """

    forward: tuple[str, ...]
    backward: tuple[str, ...]
    online: bool = False


@dataclass(frozen=True, slots=True)
class MidwayChange:
    """Steps made once for all sessions, and statements that each client's session gets."""

    steps: tuple[Step, ...]
    for_clients: tuple[str, ...]


PATIENCE_MS = 60_000
_NOT_HERE = {
    RemedyType.REWRITE: "another text: it stands for one set of values, which a trial compares",
    RemedyType.REMOVAL: "a removal: the index would really have to be dropped, and built again",
}


def midway_change(
    workspace: Workspace, entries: Sequence[RemedyEntry], mark: str, *, production: bool
) -> MidwayChange:
    """What is done for some remedies.

    Raises:
        WrongUsage: one of them cannot be made for everybody and taken back.
        RefusedForSafety: on a production server others might have to wait for it.
    """
    if entries and workspace.session.support(Capability.COPIES):
        raise RefusedForSafety(
            "A replay would make the change in the database itself, which only settling does.",
            "Try it on copies:  humble trial WHAT --remedy r1",
        )
    for entry in entries:
        words = _NOT_HERE.get(entry.remedy.type)
        if words:
            raise WrongUsage(
                f"{entry.id} cannot be made in the middle of a replay, since it is {words}.",
                f"Try it by itself:  humble trial WHAT --remedy {entry.id}",
            )
        if production and entry.remedy.type is RemedyType.CHANGE:
            raise RefusedForSafety(
                f"{entry.id} is not made on a production server, where others might wait for it.",
                "Replay against a copy: name one with --target.",
            )
    making = making_of(entries, mark, workspace.engine.dialect, writes=False)
    news = [index.new for index in making.indexes]
    steps = [Step((new.create_online_sql,), (new.drop_online_sql,), online=True) for new in news]
    for_clients: list[str] = []
    for entry in entries:
        if entry.remedy.type is RemedyType.SETTING:
            for_clients += entry.remedy.apply
        elif entry.remedy.index is None:
            steps.append(Step(entry.remedy.apply, entry.remedy.revert))
    return MidwayChange(tuple(steps), tuple(for_clients))


def make(workspace: Workspace, replay: str, change: MidwayChange, mark: str) -> None:
    """Make a change on the target; what undoes it is written down before it lasts.

    Raises:
        StatementRejected, LockNotGranted: a step was not made, and nothing of it is undone:
            what it wanted to make may be there as somebody else's.
    """
    patient = replace(workspace.limits, lock_ms=PATIENCE_MS)
    for step in change.steps:
        limits = patient if step.online else workspace.limits
        with workspace.server(mark, limits=limits).admin() as able:
            if step.online:
                _write_down(workspace, replay, step)
                able.do(step.forward[0])
                continue
            # What a trial may try, a transaction may hold.
            able.together(step.forward, partial(_write_down, workspace, replay, step))


def _write_down(workspace: Workspace, replay: str, step: Step) -> None:
    # Undoing goes from the last that was written down to the first.
    for statement in reversed(step.backward):
        workspace.ledger.replays.keep_undoing(replay, statement)


def unmake(
    workspace: Workspace, replay: str, mark: str = "tidy", *, url: str | None = None
) -> list[str]:
    """Take back what a replay made, the last first; what could not be taken back.

    ``url`` is the server it was made on, when that is not the workspace's target.
    """
    left = workspace.ledger.replays.get(replay).undoings
    if not left:
        return []
    failed = []
    dialect = (workspace.engine if url is None else engine_for(url)).dialect
    patient = replace(workspace.limits, lock_ms=PATIENCE_MS)
    for statement in left:
        # Only what is dropped online may wait long: others would queue behind anything else.
        limits = patient if dialect.waits_alone(statement) else workspace.limits
        try:
            with workspace.server(mark, limits=limits, url=url).admin() as able:
                able.do(statement)
        except HumbleError as error:
            if not _was_never_made(error):
                failed.append(f"{statement} ({error.message})")
                continue
        workspace.ledger.replays.undone(replay, statement)
    return failed


def _was_never_made(error: HumbleError) -> bool:
    """Whether there is nothing to take back: the object does not exist."""
    return isinstance(error, StatementRejected) and error.nothing_there
