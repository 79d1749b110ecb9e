"""`top-n-without-index` of groups: all rows are numbered to keep the first few of each group."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from humble_ledger.core.costs.model import Search
from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import SCANS, SORTS, Node, Operation
from humble_ledger.core.plans.paths import through_gathers
from humble_ledger.core.plans.tables import alias_of, bare_key
from humble_ledger.core.schema.facts import HOLDS_ROWS, ColumnFacts, TableFacts
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.statements.numbered import numbering
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.ordering import (
    CLEARLY_CHEAPER,
    FEW_OF_THEM,
    FEWEST_ROWS,
)
from humble_ledger.core.symptoms.model import Cause, Symptom


@dataclass(frozen=True, slots=True)
class _Numbered:
    """A window that numbers a table's rows: its columns, those of groups first, and who is kept."""

    window: Node
    scan: Node
    table: TableFacts
    groups_by: tuple[ColumnFacts, ...]
    order_by: tuple[ColumnFacts, ...]
    most: int

    @property
    def groups(self) -> float:
        """How many groups there are, as if their columns had nothing to do with each other."""
        found = 1.0
        for column in self.groups_by:
            found *= column.distinct_values(self.table.rows) or 1.0
        return min(found, self.table.rows)


def group_tops(case: Case) -> Iterable[Symptom]:
    """`top-n-without-index`, group by group."""
    for node in case.plan.nodes():
        found = _numbered(case, node)
        if found is None:
            continue
        rows, kept = case.rows(node.inputs[0]), found.groups * found.most
        if rows < FEWEST_ROWS or kept > FEW_OF_THEM * rows:
            continue
        price, now = _price(case, found), node.cost.total if node.cost else 0.0
        if price >= CLEARLY_CHEAPER * now:
            continue
        covers = tuple(step.no for step in node.walk())
        cost_ms, share = case.avoidable_of(covers, 1.0 - price / now)
        if share >= WORTH_A_WORD:
            yield _symptom(case, found, rows, kept, (price, now), (cost_ms, share), covers)


def _symptom(
    case: Case,
    found: _Numbered,
    rows: float,
    kept: float,
    costs: tuple[float, float],
    avoidable: tuple[float | None, float],
    covers: tuple[int, ...],
) -> Symptom:
    table, (price, now) = found.table.name, costs
    names = [column.name for column in (*found.groups_by, *found.order_by)]
    numbers = found.window.operation is Operation.WINDOW
    return Symptom(
        name="top-n-without-index",
        node=found.window.no,
        step=found.window.name,
        summary=message(
            "top-n-of-groups",
            measured=case.plan.steps_measured,
            numbers=numbers,
            rows=rows,
            table=table,
            most=found.most,
            groups=found.groups,
        ),
        evidence={
            "rows_numbered": rows,
            "rows_wanted": kept,
            "groups": found.groups,
            "cost_now_estimated": round(now, 2),
            "cost_predicted": round(price, 2),
            "keys": ", ".join(names),
        },
        cause=Cause(
            "groups-read-whole",
            message(
                "groups-read-whole",
                numbers=numbers,
                most=found.most,
                table=table,
                columns=names,
                cost=price,
                now=now,
            ),
        ),
        cost_ms=avoidable[0],
        cost_share=avoidable[1],
        covers=covers,
    )


def _numbered(case: Case, node: Node) -> _Numbered | None:
    kept = node.operation in (Operation.WINDOW, Operation.DISTINCT)
    if not kept or len(node.inputs) != 1 or node.never_ran:
        return None
    asked = numbering(case.statement) if case.statement else None
    sort = through_gathers(node.inputs[0])
    if asked is None or sort.operation not in SORTS or len(sort.inputs) != 1:
        return None
    scan = through_gathers(sort.inputs[0])
    table = case.table_of(scan)
    if table is None or table.kind not in HOLDS_ROWS or scan.operation not in SCANS:
        return None
    if any(step.conditions.all() for step in scan.walk()):
        return None  # what else must hold decides how many rows a group is left with
    keys = [_column(key, alias_of(scan), table) for key in sort.sort_keys]
    known = [key for key in keys if key is not None]
    # The groups come first in the order, in whichever order of their own.
    first, rest = known[: len(asked.groups_by)], known[len(asked.groups_by) :]
    if len(known) != len(keys) or not rest or {c.name for c in first} != set(asked.groups_by):
        return None
    return _Numbered(node, scan, table, tuple(first), tuple(rest), asked.most)


def _column(key: str, alias: str, table: TableFacts) -> ColumnFacts | None:
    refs = columns_of(bare_key(key))
    if len(refs) != 1 or refs[0].alias not in (alias, ""):
        return None
    return table.columns.get(refs[0].column)


def _price(case: Case, found: _Numbered) -> float:
    """The cost of a search for each group that ends after the rows wanted of it."""
    table = found.table
    shape = case.costs.sizes.in_order(table, [*found.groups_by, *found.order_by])
    share = min(1.0, found.most / max(table.rows, 1.0))
    search = Search(share, share, quals=len(found.groups_by), loops=found.groups)
    return case.costs.index_scan(table, shape, search, 0.0).total * found.groups
