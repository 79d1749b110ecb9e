"""What the catalogue tells of what was kept: indexes nobody uses since, statistics gone stale."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime

from humble_ledger.core.audits.findings import Finding, Kind
from humble_ledger.core.messages import message
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.ledger.shelf import as_kept
from humble_ledger.workflow.diagnosing.schema import found_in_schema
from humble_ledger.workflow.workspace import Workspace

FEWEST_DAYS = 2
_STALE = frozenset(("statistics-stale", "statistics-missing"))


def told_by_catalogue(workspace: Workspace) -> list[Finding]:
    """Kept indexes without a use since they were kept, and tables whose statistics are stale."""
    session = workspace.session
    tables = session.tables(session.user_tables())
    return [*_unused(workspace, tables), *_stale(workspace, tables)]


def _unused(workspace: Workspace, tables: Mapping[TableName, TableFacts]) -> Iterator[Finding]:
    ledger = workspace.ledger
    seen: set[str] = set()
    for settled in ledger.trials.settlements():
        trial = ledger.trials.get(settled.trial).trial
        if settled.decision != "keep" or trial is None:
            continue
        for id_ in trial.remedies:
            remedy = ledger.remedies.get(id_).remedy
            table = tables.get(remedy.index.table) if remedy.index is not None else None
            index = table.index(remedy.index_name) if table is not None else None
            if index is None or index.name in seen or index.scans is None:
                continue
            seen.add(index.name)
            last = None if index.last_scan is None else as_kept(index.last_scan)
            if index.scans > 0 and (last is None or last > settled.at):
                continue
            days = (datetime.now(UTC) - datetime.fromisoformat(settled.at)).days
            if days < FEWEST_DAYS:
                continue  # it has hardly had an occasion
            words = message(
                "kept-and-not-used",
                remedy=id_,
                days=days,
                trial=settled.trial,
                size_bytes=index.size_bytes,
            )
            yield Finding(
                Kind.UNUSED, index.name, words, (settled.trial, id_), f"humble show {settled.trial}"
            )


def _stale(workspace: Workspace, tables: Mapping[TableName, TableFacts]) -> Iterator[Finding]:
    for symptom in found_in_schema(workspace, tables):
        if symptom.name in _STALE:
            name = symptom.subject
            yield Finding(Kind.STALE, name, symptom.summary, (), f"humble table {name}")
