"""Rows found by two indexes and intersected, where one index on both columns would lead to them."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.conditions import PredicateKind, Wrapping, predicates
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ENTRIES = 200.0
TIMES_TOO_MANY = 5.0  # entries read for each row that is kept


def merged_indexes(case: Case) -> Iterable[Symptom]:
    """`index-merge`: the entries of several indexes are read to keep a few rows."""
    for node in case.plan.nodes():
        merged = [c for c in node.children if c.operation is Operation.BITMAP_INDEX]
        table = case.table_of(node)
        if node.operation is not Operation.BITMAP_SCAN or table is None or not merged:
            continue
        columns = _equal(node)
        entries = sum(_rows_for_value(table, column) for column in columns)
        kept = case.rows(node)
        if len(columns) < 2 or entries < max(FEWEST_ENTRIES, TIMES_TOO_MANY * kept):
            continue
        cost_ms, share = case.avoidable_of([node.no, *(c.no for c in merged)], 1 - kept / entries)
        if share < WORTH_A_WORD:
            continue
        names = " and ".join(each.index for each in merged)
        keys = ", ".join(columns)
        yield Symptom(
            name="index-merge",
            node=node.no,
            step=node.name,
            summary=phrase(
                "some {entries:whole} entries of {names} are read and intersected to keep "
                "{kept:whole} rows",
                entries=entries,
                names=names,
                kept=kept,
            ),
            evidence={"entries_read": round(entries), "rows_kept": kept, "indexes": names},
            cause=Cause(
                "no-composite-index",
                phrase(
                    "no index of {table} begins with {keys} together: one would lead to the rows "
                    "at once",
                    table=table.name.name,
                    keys=keys,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=(node.no, *(c.no for c in merged)),
        )


def _equal(node: Node) -> list[str]:
    found: dict[str, None] = {}
    for part in (p for text in node.conditions.filter for p in predicates(text)):
        bare = part.wrapping is Wrapping.NONE and part.partner is None and not part.negated
        if part.kind is PredicateKind.EQUALITY and bare and part.column is not None:
            found[part.column.column] = None
    return list(found)


def _rows_for_value(table: TableFacts, column: str) -> float:
    facts = table.columns.get(column)
    values = facts.distinct_values(table.rows) if facts is not None else None
    return table.rows / max(1.0, values or 1.0)
