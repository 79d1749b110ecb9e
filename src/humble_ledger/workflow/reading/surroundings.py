"""What surrounds a plan: the tables it reads as the server knows them now."""

from __future__ import annotations

from math import isfinite

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.results.plans import Granted, PlanSurroundings
from humble_ledger.core.schema.facts import TableName
from humble_ledger.workflow.reading.saved import SAVED
from humble_ledger.workflow.workspace import Workspace


def surroundings_of(workspace: Workspace, entry: PlanEntry) -> PlanSurroundings:
    """The tables of a plan; a saved plan's are unknown, as it may be of any server.

    Plans read from a log name tables without their schema: the default one is meant.
    """
    if entry.origin == SAVED or not workspace.has_target:
        return PlanSurroundings(entry, {}, None)
    pairs = {TableName(schema, name) for schema, name in entry.plan.relations()}
    default = workspace.session.server.default_schema
    asked = {pair: TableName(pair.schema or default, pair.name) for pair in pairs}
    facts = workspace.session.tables(asked.values())
    known = {pair: facts[name] for pair, name in asked.items() if name in facts}
    resources = workspace.session.costs.resources
    memory = resources.memory_bytes(entry.plan)
    granted = Granted(resources.memory_setting, memory) if isfinite(memory) else None
    return PlanSurroundings(entry, known, workspace.session.server, granted)
