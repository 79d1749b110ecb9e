"""Sorts that an index spares only in appearance: it holds the beginnings of the values."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Operation
from humble_ledger.core.schema.beginnings import Beginning, beginning_of
from humble_ledger.core.schema.facts import IndexFacts
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom


def sorted_beside_prefix(case: Case) -> Iterable[Symptom]:
    """`sort-without-index`: the index that is read holds a part of the sorted column only."""
    for sort in case.plan.nodes():
        if sort.operation is not Operation.SORT or not sort.sort_keys:
            continue
        first = next(iter(columns_of(sort.sort_keys[0])), None)
        for node in sort.walk():
            table = case.table_of(node)
            index = table.index(node.index) if table is not None and node.index else None
            found = _prefix_of(index, first.column if first is not None else "")
            if index is None or table is None or found is None:
                continue
            cost_ms, share = case.avoidable(sort, 1.0)
            if share < WORTH_A_WORD:
                continue
            yield Symptom(
                name="sort-without-index",
                node=sort.no,
                step=sort.name,
                summary=phrase(
                    "{rows:whole} rows are sorted by {column}, though {index} begins with it",
                    rows=case.rows(node),
                    column=found.column,
                    index=index.name,
                ),
                evidence={"rows": case.rows(node), "index": index.name},
                cause=Cause(
                    "prefix-index",
                    phrase(
                        "{index} holds the first {length} characters of {column}: it can neither "
                        "sort by it nor stand in for the table; an index on the whole column can",
                        index=index.name,
                        length=found.length,
                        column=found.column,
                    ),
                ),
                cost_ms=cost_ms,
                cost_share=share,
            )


def _prefix_of(index: IndexFacts | None, column: str) -> Beginning | None:
    found = beginning_of(index.keys[0]) if index is not None and index.keys else None
    return found if found is not None and found.column == column else None
