"""Symptoms of the target's schema, with what captured queries ask of its columns."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from contextlib import suppress
from datetime import UTC, datetime

from humble_ledger.core.entries import SymptomEntry
from humble_ledger.core.plans.tables import Place, table_accounts
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.schema.random_keys import drawn_by_chance
from humble_ledger.core.symptoms.in_schema.clustering import clustering_column
from humble_ledger.core.symptoms.in_schema.indexes import CapturedUse
from humble_ledger.core.symptoms.in_schema.registry import schema_symptoms
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.reading.plans import newest_plan
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.workspace import Workspace

_SEARCHING = (Place.SEARCH, Place.FILTER, Place.JOIN)


def symptoms_of_schema(workspace: Workspace, only: TableName | None = None) -> list[SymptomEntry]:
    """What the catalogue shows, of all the user's tables or of one; kept in the ledger."""
    session = workspace.session
    tables = session.tables(session.user_tables())
    found = found_in_schema(workspace, tables)
    if only is not None:
        mine = f"{only}."
        found = [s for s in found if s.subject == str(only) or s.subject.startswith(mine)]
    name = workspace.target.name or workspace.public_url
    return workspace.ledger.symptoms.keep_of_schema(name, found)


def found_in_schema(workspace: Workspace, tables: Mapping[TableName, TableFacts]) -> list[Symptom]:
    """What is wrong with these tables, beside what captured queries ask of them."""
    # Where the server counts how often an index is used, no plan need stand in for that; but what
    # was captured and not run since the counters began may need one all the same.
    used = captured_use(workspace)
    return schema_symptoms(
        tables,
        searched_columns(workspace),
        datetime.now(UTC),
        used,
        workspace.engine.dialect,
        _keyed_by_chance(workspace, tables),
    )


def _keyed_by_chance(
    workspace: Workspace, tables: Mapping[TableName, TableFacts]
) -> list[TableName]:
    """The tables kept in the order of a key of which a few values are random UUIDs."""
    found = []
    for name, table in tables.items():
        column = clustering_column(table)
        if not column:
            continue
        with suppress(HumbleError):  # a server that hands out no rows: nothing is said
            if drawn_by_chance(workspace.session.few_values(name, column)):
                found.append(name)
    return found


def searched_columns(workspace: Workspace) -> set[tuple[TableName, str]]:
    """The columns by which the plans of captured queries search, filter or join."""
    found = set()
    default = workspace.session.server.default_schema
    for query in captured_queries(workspace):
        entry = newest_plan(workspace, query)
        if entry is None:
            continue
        for account in table_accounts(entry.plan):
            name = TableName(account.name.schema or default, account.name.name)
            for column, places in account.columns.items():
                if any(place in _SEARCHING for place in places):
                    found.add((name, column))
    return found


def captured_use(workspace: Workspace) -> CapturedUse:
    """Which indexes the newest plans of captured queries use."""
    default = workspace.session.server.default_schema
    queries: Counter[TableName] = Counter()
    indexes, complete = set(), True
    for query in captured_queries(workspace):
        entry = newest_plan(workspace, query)
        if entry is None:
            complete = False
            continue
        read = set()
        for node in entry.plan.nodes():
            if node.relation:
                name = TableName(node.schema or default, node.relation)
                read.add(name)
                parts = [node, *node.children]
                indexes |= {(name, part.index) for part in parts if part.index}
        queries.update(read)
    return CapturedUse(queries, frozenset(indexes), complete)
