"""What an index is called in plans: on a partitioned table those of its partitions are."""

from __future__ import annotations

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.engines.contract import Session
from humble_ledger.workflow.reading.plans import table_names


def is_used(session: Session, plan: Plan, design: IndexDesign, name: str) -> bool:
    """Whether a plan uses an index, or one of the same build on a partition of its table."""
    if plan.uses_index(name):
        return True
    return any(
        plan.uses_index(index.name)
        for table in session.tables(table_names(plan)).values()
        if table.root == design.table
        for index in table.indexes
        if index.keys == design.keys
        and index.method == design.method
        and index.predicate == design.predicate
    )
