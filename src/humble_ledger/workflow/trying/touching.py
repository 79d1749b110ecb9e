"""The captured queries that a change may concern."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.remedies.operations import (
    Analyze,
    CreateIndex,
    CreateStatistics,
    DropIndex,
    SetStatisticsTarget,
)
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.tokens import TokenKind, meaningful, unquoted
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.workspace import Workspace

_OF_EVERYTHING = (RemedyType.SETTING, RemedyType.CHANGE)


def touched_queries(workspace: Workspace, entries: Sequence[RemedyEntry]) -> list[str]:
    """Those that read a table that is changed; all of them for a change without a table."""
    queries = captured_queries(workspace)
    if any(entry.remedy.type in _OF_EVERYTHING for entry in entries):
        return queries
    tables = {name for entry in entries for name in _tables(workspace, entry.remedy)}
    texts = {query: workspace.ledger.queries.text(query) for query in queries}
    return [query for query, text in texts.items() if tables & _names(text)]


def _tables(workspace: Workspace, remedy: Remedy) -> set[str]:
    """The names of the tables that a remedy changes."""
    match remedy.operation:
        case CreateIndex(design):
            return {design.table.name}
        case (
            DropIndex(table)
            | CreateStatistics(table)
            | SetStatisticsTarget(table)
            | Analyze(TableName() as table)
        ):
            return {table.name}
    named = {name for statement in remedy.apply for name in _names(statement)}
    return named & {table.name for table in workspace.session.user_tables()}


def _names(sql: str) -> set[str]:
    kinds = (TokenKind.WORD, TokenKind.QUOTED)
    return {unquoted(t.text) for t in meaningful(sql) if t.kind in kinds}
