"""Which way a trial goes, and why; and what is refused because somebody would have to wait."""

from __future__ import annotations

from collections.abc import Sequence
from collections.abc import Set as AbstractSet
from dataclasses import dataclass

from humble_ledger.core.remedies.model import RemedyType
from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.core.trials.ways import Way
from humble_ledger.engines.contract import Capability
from humble_ledger.errors import RefusedForSafety
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.trying.making import Making
from humble_ledger.workflow.workspace import Workspace

_KEPT_WAITING = "writers waited while it was built, as it is on an expression"
_NOT_ON_PRODUCTION = (RemedyType.REMOVAL, RemedyType.CHANGE)


@dataclass(frozen=True, slots=True)
class ChosenWay:
    """A way, and in a sentence why this one; "" when it is the plain one."""

    way: Way
    why: str = ""


def choose_way(
    workspace: Workspace, making: Making, tried: Sequence[TriedQuery], *, on_production: bool
) -> ChosenWay:
    """The way that the server, the target's role and the statements leave.

    Raises:
        RefusedForSafety: others on a production server would have to wait, or nobody said that
            it is meant.
    """
    writes = any(kind_of(each.statement.sql) is StatementKind.CHANGES for each in tried)
    production = workspace.target.role is TargetRole.PRODUCTION
    if making.makes_something and workspace.session.support(Capability.COPIES):
        return ChosenWay(Way.COPIES)  # nobody can be in anybody's way
    waits = any(i.design.waits_for_expression(workspace.engine.dialect) for i in making.indexes)
    if production:
        lasting = not workspace.session.support(Capability.UNCOMMITTED_STATISTICS)
        not_there = {*_NOT_ON_PRODUCTION, *((RemedyType.STATISTICS,) if lasting else ())}
        _refuse_on_production(making, not_there, writes=writes, waits=waits, meant=on_production)
    if not making.makes_something:
        return ChosenWay(Way.REWRITES if making.rewrite is not None else Way.OTHERS)
    hindered = _hindered(workspace, making)
    if hindered:
        return ChosenWay(Way.NOT_TRIED, hindered)
    if RemedyType.STATISTICS in making.types:
        able = workspace.session.support(Capability.UNCOMMITTED_STATISTICS)
        if not able:
            return ChosenWay(Way.GATHERED, able.reason)
    if not making.indexes:
        return ChosenWay(Way.REMOVALS if making.types == {RemedyType.REMOVAL} else Way.OTHERS)
    if production:
        return ChosenWay(Way.ONLINE, "on a production server writers must not wait")
    if writes and not workspace.session.support(Capability.UNCOMMITTED_INDEX):
        return ChosenWay(Way.ONLINE, "not every statement that writes can ignore an index")
    if writes:
        return ChosenWay(
            Way.STAGES, "statements that write would wait for an index another connection builds"
        )
    if not workspace.session.support(Capability.UNCOMMITTED_INDEX):
        return ChosenWay(Way.IGNORED, _KEPT_WAITING if waits else "")
    return ChosenWay(Way.INDEXES)


def _refuse_on_production(
    making: Making, not_there: AbstractSet[RemedyType], *, writes: bool, waits: bool, meant: bool
) -> None:
    copy = "Try it on a copy: name one with --target."
    if writes:
        raise RefusedForSafety(
            "The target is a production server; statements that write are not run there, since "
            "they lock rows until they are taken back.",
            copy,
        )
    if not making.makes_something:
        return  # nobody waits
    blocking = sorted(making.types & not_there)
    if blocking:
        raise RefusedForSafety(
            f"The target is a production server; a {blocking[0]} is not tried there, since others "
            "might have to wait for it.",
            copy,
        )
    if waits:
        raise RefusedForSafety(
            "The target is a production server; an index on an expression is not tried there, "
            "since this server keeps writers waiting while it is built.",
            copy,
        )
    if not meant:
        raise RefusedForSafety(
            "The target is a production server; nothing is made there unless you say so.",
            f"{copy} If it is meant, say  --on-production  too: indexes are then built and "
            "dropped online, and no writer waits.",
        )
    if making.indexes and len(making.types) > 1:
        raise RefusedForSafety(
            "On a production server indexes are tried by themselves, as they are built online.",
            "Leave the other changes out, or try them all on a copy.",
        )


def _hindered(workspace: Workspace, making: Making) -> str:
    """Why nothing can be made on this target; "" when it can."""
    able = workspace.session.support(Capability.UNCOMMITTED_INDEX)
    if not able and not workspace.session.support(Capability.IGNORED_INDEX):
        return able.reason
    tables = sorted({index.design.table for index in making.indexes}, key=str)
    foreign = [str(table) for table in tables if not workspace.session.can_create_index(table)]
    if foreign:
        return f"only the owner of {', '.join(foreign)} may build an index there"
    return ""
