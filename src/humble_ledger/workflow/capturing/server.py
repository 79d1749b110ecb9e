"""Capturing a server's statistics of statements: the difference to the look before."""

from __future__ import annotations

from dataclasses import replace

import msgspec

from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.statements.masking import masked
from humble_ledger.core.workload.gathering import Gathering, Harvest, Period
from humble_ledger.core.workload.statistics import StatementUse, StatisticsLook, difference
from humble_ledger.ledger.captures import CaptureTally, CountersMove
from humble_ledger.workflow.workspace import Workspace


def capture_server(workspace: Workspace, mask: bool = False) -> CaptureEntry:
    """Look at the server's statistics and keep what was added since the look before.

    The first look keeps everything since the server began to count. Texts come without
    literals from the server itself; what it leaves in (in DDL) has no plan and is left out.

    Raises:
        WrongUsage: the server does not count statements; `preflight` tells how it would.
    """
    mask = mask or workspace.configuration.mask
    ledger = workspace.ledger
    look = workspace.session.statistics()
    # Counters belong to a server and database, whatever address leads there.
    target = workspace.public_url
    kept = ledger.captures.counters(target)
    before = msgspec.json.decode(kept, type=StatisticsLook) if kept else None
    found = difference(before, look)
    gathering = Gathering()
    periods = [_period(gathering, use, look, mask) for use in found.uses]
    writer = ledger.captures.begin("server", workspace.target.name or target)
    tally = CaptureTally(notes=found.notes)
    writer.keep(
        Harvest(gathering.groups.all, periods),
        tally=tally,
        counters=CountersMove(
            target, kept, msgspec.json.encode(_without_literals(look) if mask else look)
        ),
    )
    return writer.finish(tally)


def _without_literals(look: StatisticsLook) -> StatisticsLook:
    """Commands without a plan keep their literals in the server's own counters."""
    statements = [replace(each, sql=masked(each.sql)) for each in look.statements]
    return replace(look, statements=statements)


def _period(gathering: Gathering, use: StatementUse, look: StatisticsLook, mask: bool) -> Period:
    sql = masked(use.statement.sql) if mask else use.statement.sql
    group = gathering.groups.of(sql, sql)
    begun = use.since.timestamp() if use.since else None
    client = (use.statement.user, use.statement.database, "")
    ended = look.taken_at.timestamp()
    return Period(group, client, use.usage, begun if begun is not None else ended, ended)
