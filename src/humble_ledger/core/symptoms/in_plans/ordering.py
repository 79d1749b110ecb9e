"""Rows put in order that an index could have delivered in order.

`sort-without-index` sorts all of them; `top-n-without-index` looks at all of them
to give the first few. Whether reading in order would be cheaper is for the cost formulas to
say: mostly it is when few rows match, or when few are wanted.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from humble_ledger.core.costs.model import Search
from humble_ledger.core.estimates.guessed import share_by_statistics
from humble_ledger.core.messages import Message, message
from humble_ledger.core.plans.model import SCANS, SORTS, Node, Operation, Role
from humble_ledger.core.plans.paths import path_to, through_gathers
from humble_ledger.core.plans.tables import alias_of, bare_key
from humble_ledger.core.schema.expressions import column_of_expression
from humble_ledger.core.schema.facts import HOLDS_ROWS, ColumnFacts, IndexFacts, TableFacts
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.brackets import without_brackets
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    columns_of,
    predicates,
)
from humble_ledger.core.statements.parting import same_text, unqualified
from humble_ledger.core.statements.tokens import unquoted
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.paging import given_and_skipped
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 1_000.0
CLEARLY_CHEAPER = 0.5
FEW_OF_THEM = 0.1  # of the rows are wanted, at most
MOST_KEYS = 4
NEARLY = 0.1  # of the rows have a value of their own


@dataclass(frozen=True, slots=True)
class _Ordered:
    """A sort of one table's rows: its steps, its keys, what is fixed, what else is tested."""

    top: Node
    sort: Node
    scan: Node
    table: TableFacts
    fixed: tuple[Predicate, ...]
    others: tuple[Predicate, ...]
    keys: tuple[str, ...]
    descending: tuple[bool, ...]
    wanted: float  # share of the sorted rows that are given on

    @property
    def columns(self) -> list[str]:
        """The columns of an index that would have this order: the fixed ones, then the keys."""
        return [*dict.fromkeys(p.column.column for p in self.fixed if p.column), *self.keys]


def spared_sorts(case: Case) -> Iterable[Symptom]:
    """`sort-without-index` and `top-n-without-index`."""
    for node in case.plan.nodes():
        found = _ordered(case, node)
        if found is None or case.rows(found.sort.inputs[0]) < FEWEST_ROWS:
            continue
        price = _price(case, found)
        now = found.top.cost.total if found.top.cost else 0.0
        if price >= CLEARLY_CHEAPER * now:
            continue
        first = found.wanted <= FEW_OF_THEM
        covers = [found.sort.no]
        if first:
            # Processes are gathered for the scan alone.
            way = path_to(found.top, found.scan)
            covers += [n.no for n in way if n.operation is Operation.GATHER]
            covers += [n.no for n in found.scan.walk()]
        cost_ms, share = case.avoidable_of(covers, 1.0 - price / now)
        if share >= WORTH_A_WORD:
            yield _symptom(case, found, price, now, cost_ms, share, covers)


def spared_by_index(case: Case, sort: Node) -> Message | None:
    """What an index in a sort's order would cost; None when it would not be better."""
    found = _ordered(case, sort)
    if found is None or sort.cost is None:
        return None
    price, now = _price(case, found), sort.cost.total
    if price >= CLEARLY_CHEAPER * now:
        return None
    return message(
        "index-avoids-sort", table=found.table.name, columns=found.columns, cost=price, now=now
    )


def _symptom(
    case: Case,
    found: _Ordered,
    price: float,
    now: float,
    cost_ms: float | None,
    share: float,
    covers: list[int],
) -> Symptom:
    rows = case.rows(found.sort.inputs[0])
    first = found.wanted <= FEW_OF_THEM
    summary = message(
        "top-n-without-index" if first else "sort-without-index",
        measured=case.plan.steps_measured,
        rows=rows,
        table=found.table.name,
        wanted=rows * found.wanted,
        keys=found.keys,
    )
    columns = found.columns
    return Symptom(
        name="top-n-without-index" if first else "sort-without-index",
        node=found.sort.no,
        step=found.sort.name,
        summary=summary,
        evidence={
            "rows_sorted": rows,
            "rows_wanted": rows * found.wanted,
            "cost_now_estimated": round(now, 2),
            "cost_predicted": round(price, 2),
            "keys": ", ".join(columns),
        },
        cause=_cause(found, columns, price, now),
        cost_ms=cost_ms,
        cost_share=share,
        covers=tuple(covers),
    )


def _cause(found: _Ordered, columns: list[str], price: float, now: float) -> Cause:
    turned = _turned(found, columns)
    if turned is not None:
        return Cause(
            "directions-differ",
            message("directions-differ", index=turned.name, cost=price, now=now),
        )
    return Cause(
        "no-index-in-this-order",
        message(
            "no-index-in-this-order", table=found.table.name, columns=columns, cost=price, now=now
        ),
    )


def _ordered(case: Case, node: Node) -> _Ordered | None:
    """The sort at a step, or below a limit, when it orders the rows of one scan."""
    sort, wanted = _sort_of(case, node)
    if sort is None or sort.never_ran:
        return None
    scan = through_gathers(sort.inputs[0])
    table = case.table_of(scan)
    if (
        scan.operation not in SCANS
        or table is None
        or table.kind not in HOLDS_ROWS
        or scan.never_ran
    ):
        return None
    found = _conditions(scan)
    fixed = [
        p for p in found if p.searchable and p.kind is PredicateKind.EQUALITY and not p.partner
    ]
    keys = _keys(sort, alias_of(scan), table)
    if not keys and node.operation is Operation.LIMIT:
        keys = _expression(case, sort, alias_of(scan), table)
    equal = {p.column.column for p in fixed if p.column}
    kept = [(key, turned) for key, turned in keys if key not in equal]
    if not kept or len(kept) + len(equal) > MOST_KEYS or _in_order(table, equal, kept):
        return None
    return _Ordered(
        node,
        sort,
        scan,
        table,
        tuple(fixed),
        tuple(p for p in found if p not in fixed),
        tuple(key for key, _ in kept),
        tuple(turned for _, turned in kept),
        min(wanted, 1.0),
    )


def _sort_of(case: Case, node: Node) -> tuple[Node | None, float]:
    """The sort that a step is, or that a limit is put on, and the share of its rows wanted."""
    sort, wanted = node, 1.0
    inputs = [child for child in node.children if child.role is Role.OUTER]
    if node.operation is Operation.LIMIT and inputs:
        sort = through_gathers(inputs[0])
        rows = case.rows(sort.inputs[0]) if sort.inputs else 0.0
        wanted = (sum(given_and_skipped(node)) / rows) if rows else 1.0
    elif _is_below_limit(case, node):
        return None, 1.0  # told at the limit
    return (sort, wanted) if sort.operation in SORTS and len(sort.children) == 1 else (None, 1.0)


def _conditions(scan: Node) -> list[Predicate]:
    """All that a scan tests and searches by, each once."""
    texts = [t for n in scan.walk() for t in (*n.conditions.search, *n.conditions.filter)]
    return list(dict.fromkeys(p for text in texts for p in predicates(text)))


def _is_below_limit(case: Case, node: Node) -> bool:
    limits = (n for n in case.plan.nodes() if n.operation is Operation.LIMIT and n.inputs)
    return any(through_gathers(limit.inputs[0]) is node for limit in limits)


def _keys(sort: Node, alias: str, table: TableFacts) -> list[tuple[str, bool]]:
    """(column, descending) of each key; [] when one is no plain column of this table."""
    keys = []
    for text in sort.sort_keys:
        bare = bare_key(text)
        refs = columns_of(bare)
        plain = len(refs) == 1 and unquoted(bare.split(".")[-1]) == refs[0].column
        if not plain or refs[0].alias not in (alias, "") or refs[0].column not in table.columns:
            return []
        keys.append((refs[0].column, " DESC" in text))
    return keys


def _expression(case: Case, sort: Node, alias: str, table: TableFacts) -> list[tuple[str, bool]]:
    """The only key as an expression of this table's columns that an index can hold; else []."""
    if len(sort.sort_keys) != 1:
        return []
    text = bare_key(sort.sort_keys[0])
    refs = columns_of(text)
    own = all(r.alias in (alias, "") and r.column in table.columns for r in refs)
    expression = unqualified(without_brackets(text), alias)
    if not refs or not own or not case.planner.immutable(table.name, f"({expression})"):
        return []
    return [(f"({expression})", " DESC" in sort.sort_keys[0])]


def _in_order(table: TableFacts, equal: set[str], keys: Sequence[tuple[str, bool]]) -> bool:
    """Whether an index has this order already; then the planner had the choice."""
    return any(_gives(index, equal, keys) for index in table.indexes if index.valid)


def _gives(index: IndexFacts, equal: set[str], keys: Sequence[tuple[str, bool]]) -> bool:
    if index.method != IndexMethod.SORTED or index.predicate:
        return False
    rest = [key for key in index.keys if key.column not in equal]
    if len(rest) < len(keys) or not all(
        key.column == name or (key.expression and same_text(key.expression, name))
        for key, (name, _) in zip(rest, keys, strict=False)
    ):
        return False
    turned = {key.descending is down for key, (_, down) in zip(rest, keys, strict=False)}
    return len(turned) == 1


def _turned(found: _Ordered, columns: list[str]) -> IndexFacts | None:
    """An index on the same columns whose directions do not fit."""
    return next(
        (
            index
            for index in found.table.indexes
            if index.valid and list(index.key_columns[: len(columns)]) == columns
        ),
        None,
    )


def _nearly_unique(column: ColumnFacts, table: TableFacts) -> bool:
    """Whether a first key alone decides the order, so that its correlation is the whole's."""
    return (column.distinct_values(table.rows) or 1.0) >= NEARLY * table.rows


def _price(case: Case, found: _Ordered) -> float:
    """The cost of reading in the order of an index on the fixed columns and the keys."""
    table = found.table
    columns = [table.columns.get(name) or column_of_expression(name) for name in found.columns]
    share = 1.0
    if found.fixed:
        rows = case.planner.rows_matching(
            table.name, found.scan.alias, [p.sql for p in found.fixed]
        )
        share = (
            min(1.0, rows / max(table.rows, 1.0))
            if rows is not None
            else min(share_by_statistics(table, p) for p in found.fixed)
        )
    correlation = 0.0
    if not found.fixed and (len(columns) == 1 or _nearly_unique(columns[0], table)):
        correlation = columns[0].correlation or 0.0
    search = Search(share, share, quals=len(found.fixed), filters=len(found.others))
    cost = case.costs.index_scan(
        table, case.costs.sizes.in_order(table, columns), search, correlation
    )
    return cost.startup + (cost.total - cost.startup) * found.wanted
