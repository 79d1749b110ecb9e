"""What the schema itself calls for: indexes removed or added, statistics gathered."""

from __future__ import annotations

from humble_ledger.core.costs.model import Search
from humble_ledger.core.messages import message
from humble_ledger.core.remedies.choice.worth import Priced
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.remedies.removal import removal
from humble_ledger.core.remedies.statistics import gathered_where_needed, schema_statistics
from humble_ledger.core.schema.facts import ForeignKey, IndexKey, TableFacts
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.workflow.diagnosing.schema import found_in_schema
from humble_ledger.workflow.proposing.indexes import IndexRemedies
from humble_ledger.workflow.workspace import Workspace


def of_schema(workspace: Workspace, making: IndexRemedies, known: set[IndexDesign]) -> list[Remedy]:
    """What the symptoms of the schema call for; not the indexes in ``known`` once more."""
    session = workspace.session
    tables = session.tables(session.user_tables())
    found: list[Remedy] = []
    for symptom in found_in_schema(workspace, tables):
        table = next((t for t in tables.values() if _is_of(symptom, t)), None)
        if table is None:
            continue
        for remedy in (
            removal(table, symptom, workspace.engine.dialect),
            schema_statistics(table, symptom, workspace.engine.dialect),
        ):
            if remedy is not None:
                found.append(remedy)
        key = next((k for k in table.foreign_keys if symptom.subject.endswith(f".{k.name}")), None)
        if symptom.name == "foreign-key-without-index" and key is not None:
            design = IndexDesign(table.name, tuple(IndexKey(c) for c in key.columns))
            if not any(_begins(other, key, table) for other in known):
                found.append(_supporting(workspace, making, table, key, design))
    together = gathered_where_needed(found, workspace.engine.dialect)
    return [together, *found] if together is not None else found


def _begins(design: IndexDesign, key: ForeignKey, table: TableFacts) -> bool:
    """Whether an index that is proposed already supports a foreign key."""
    first = set(design.key_columns[: len(key.columns)])
    return design.table == table.name and not design.predicate and first == set(key.columns)


def _supporting(
    workspace: Workspace,
    making: IndexRemedies,
    table: TableFacts,
    key: ForeignKey,
    design: IndexDesign,
) -> Remedy:
    """An index that spares each delete on the other side from reading this table whole."""
    shape = making.pool.predictor.shape(design, table)
    rows = workspace.session.rows_per_value(table.name, key.columns)
    costs = workspace.session.costs
    share = min(1.0, rows / max(1.0, table.rows))
    search = Search(share, share, quals=len(key.columns))
    after = min(
        costs.index_scan(table, shape, search, 0.0).total,
        costs.bitmap_scan(table, shape, search).total,
    )
    before = costs.full_scan(table, 1)
    reason = message("deletes-are-looked-up", refers_to=key.refers_to, now=before, cost=after)
    size = shape.size_bytes(table.page_bytes)
    return making.remedy(Priced(design, (), size, reason))


def _is_of(symptom: Symptom, table: TableFacts) -> bool:
    name = str(table.name)
    return symptom.subject == name or symptom.subject.startswith(f"{name}.")
