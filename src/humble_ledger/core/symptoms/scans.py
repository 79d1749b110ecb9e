"""Full scans: the selective one that an index would spare, and the one that is right.

What decides is not a threshold but the cost model: a full scan is wrong when the route
through an index on its best condition would cost clearly less.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.plans.paths import rows_divided_by
from humble_ledger.core.remedies.btree import Search, index_shape
from humble_ledger.core.schema.facts import IndexFacts, TableFacts
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    predicates,
)
from humble_ledger.core.symptoms.model import Case, Cause, Symptom

WORTH_A_WORD = 0.10  # of the plan's time
FEWEST_PAGES = 32
CLEARLY_CHEAPER = 0.5
ROUNDING = 1e-4
_USABLE = frozenset((PredicateKind.EQUALITY, PredicateKind.RANGE, PredicateKind.MEMBERSHIP))
# What an equality is assumed to keep when the statistics say nothing, as planners do.
DEFAULT_EQUALITY, DEFAULT_RANGE, DEFAULT_OTHER = 0.005, 1 / 3, 0.5
_TEXT_CASTS = ("character varying", "varchar", "name", "character")


@dataclass(frozen=True, slots=True)
class _Scan:
    """A full scan with its figures: rows per loop, share kept, cost now and by an index."""

    node: Node
    table: TableFacts
    rows_read: float
    kept_share: float
    scan_cost: float
    index_cost: float
    predicates: tuple[Predicate, ...]


def full_scans(case: Case) -> Iterable[Symptom]:
    """`selective-full-scan` and `scan-is-right`."""
    for node in case.plan.nodes():
        if node.operation is not Operation.FULL_SCAN or node.never_ran:
            continue
        scan = _measure(case, node)
        if scan is None or case.accounts[node.no].own_share < WORTH_A_WORD:
            continue
        if scan.table.pages < FEWEST_PAGES and (node.loops or 1) <= 1:
            continue
        if scan.predicates and scan.index_cost < CLEARLY_CHEAPER * scan.scan_cost:
            yield _selective(case, scan)
        elif scan.index_cost > scan.scan_cost and (node.loops or 1) <= _processes(case, node):
            yield _right(case, scan)


def _measure(case: Case, node: Node) -> _Scan | None:
    table = case.table_of(node)
    if table is None or table.rows <= 0:
        return None
    found = tuple(p for text in node.conditions.filter for p in predicates(text))
    if node.rows_seen is not None and node.loops:
        kept = node.rows_seen * node.loops
        read = kept + (node.discarded.by_filter or 0.0) * node.loops
        # Averages over processes come rounded; a whole table is a whole table.
        whole = table.rows * max(1.0, round(read / table.rows))
        read = whole if abs(read - whole) < ROUNDING * whole else read
        share = kept / read if read else 0.0
    else:
        read = table.rows
        workers = rows_divided_by(case.plan, node) if node.parallel_aware else 1.0
        share = min(1.0, (node.rows_expected or 0.0) * workers / table.rows)
    quals = len(found)
    scan_cost = table.pages * case.server.setting("seq_page_cost", 1.0)
    scan_cost += case.costs.per_row(table.rows, quals)
    return _Scan(node, table, read, share, scan_cost, _index_cost(case, table, found, share), found)


def _index_cost(case: Case, table: TableFacts, found: Sequence[Predicate], share: float) -> float:
    """The cost by an index on the best condition, if it keeps ``share`` of the rows."""
    column = _best(table, found)
    facts = table.columns.get(column.column.column) if column and column.column else None
    columns = [facts] if facts else list(table.columns.values())[:1]
    if not columns:
        return float("inf")
    shape = index_shape(table, columns)
    search = Search(share, share, quals=1, filters=max(0, len(found) - 1))
    correlation = columns[0].correlation or 0.0
    return min(
        case.costs.index_scan(table, shape, search, correlation).total,
        case.costs.bitmap_scan(table, shape, search).total,
    )


def _selective(case: Case, scan: _Scan) -> Symptom:
    node, kept = scan.node, scan.kept_share * scan.rows_read
    loops = (node.loops or 1) / _processes(case, node)
    cost_ms, cost_share = case.avoidable(node, 1.0 - scan.kept_share)
    times = f", {loops:,.0f} times" if loops > 1 else ""
    verb = "reads" if case.plan.measured else "would read"
    return Symptom(
        name="selective-full-scan",
        node=node.no,
        step=node.name,
        summary=(
            f"{verb} all {scan.rows_read / loops:,.0f} rows of {scan.table.name}{times} "
            f"to keep {kept:,.0f}"
        ),
        evidence={
            "rows_read": scan.rows_read,
            "rows_kept": kept,
            "kept_share": scan.kept_share,
            "table_pages": scan.table.pages,
            "loops": loops,
            "scan_cost_estimated": round(scan.scan_cost, 2),
            "index_cost_predicted": round(scan.index_cost, 2),
        },
        cause=_cause(scan.table, scan.predicates),
        cost_ms=cost_ms,
        cost_share=cost_share,
    )


def _right(case: Case, scan: _Scan) -> Symptom:
    table, share = scan.table, scan.kept_share
    even = _break_even(case, scan)
    if not scan.predicates:
        detail = f"nothing narrows the rows down: the query wants all of {table.name}"
    else:
        detail = (
            f"it keeps {share:.1%} of the rows; an index would cost {scan.index_cost:,.0f} "
            f"against {scan.scan_cost:,.0f} (predicted), and wins only below {even:.1%}"
        )
    return Symptom(
        name="scan-is-right",
        node=scan.node.no,
        step=scan.node.name,
        summary=f"the full scan of {table.name} is the right choice",
        evidence={
            "rows_read": scan.rows_read,
            "kept_share": share,
            "break_even_share_predicted": round(even, 4),
            "scan_cost_estimated": round(scan.scan_cost, 2),
            "index_cost_predicted": round(scan.index_cost, 2),
        },
        cause=Cause("most-rows-wanted", detail),
        cost_ms=None,
        cost_share=0.0,
        harmless=True,
    )


def _break_even(case: Case, scan: _Scan) -> float:
    """The share of rows below which the index route would be cheaper, by bisection."""
    low, high = 0.0, 1.0
    for _ in range(30):
        middle = (low + high) / 2
        if _index_cost(case, scan.table, scan.predicates, middle) < scan.scan_cost:
            low = middle
        else:
            high = middle
    return low


def _best(table: TableFacts, found: Sequence[Predicate]) -> Predicate | None:
    """The condition that keeps the fewest rows by the statistics."""
    usable = [p for p in found if p.column is not None]
    return min(usable, key=lambda p: _kept(table, p), default=None)


def _kept(table: TableFacts, predicate: Predicate) -> float:
    assert predicate.column is not None
    if predicate.kind is PredicateKind.EQUALITY:
        column = table.columns.get(predicate.column.column)
        bare = predicate.wrapping in (Wrapping.NONE, Wrapping.CAST)
        distinct = column.distinct_values(table.rows) if column and bare else None
        return 1.0 / distinct if distinct else DEFAULT_EQUALITY
    return DEFAULT_RANGE if predicate.kind in _USABLE else DEFAULT_OTHER


def _cause(table: TableFacts, found: Sequence[Predicate]) -> Cause:
    predicate = _best(table, found)
    if predicate is None or predicate.column is None:
        return Cause(
            "condition-not-searchable",
            f"no index can lead to rows by «{found[0].sql}»",
        )
    column = predicate.column.column
    leading = [i for i in table.indexes if i.valid and i.key_columns[:1] == (column,)]
    inside = [i for i in table.indexes if i.valid and column in i.key_columns[1:]]
    wrapping = _real_wrapping(table, predicate)
    if wrapping is not Wrapping.NONE:
        return _wrapped(predicate, wrapping, leading)
    if predicate.kind not in _USABLE:
        return Cause("condition-not-searchable", f"no b-tree can lead to rows by «{predicate.sql}»")
    if leading:
        return Cause(
            "index-not-chosen",
            f"{_named(leading)} begins with {column}, but the planner did not take it",
        )
    if inside:
        return Cause(
            "wrong-end-of-index",
            f"{_named(inside)} holds {column}, but behind another column",
        )
    return Cause("no-index", f"no index of {table.name} begins with {column}")


def _real_wrapping(table: TableFacts, predicate: Predicate) -> Wrapping:
    """Casting varchar to text changes nothing; indexes serve it as if it were not there."""
    assert predicate.column is not None
    column = table.columns.get(predicate.column.column)
    harmless = column is not None and column.type_name.startswith(_TEXT_CASTS)
    if predicate.wrapping is Wrapping.CAST and harmless:
        return Wrapping.NONE
    return predicate.wrapping


def _wrapped(predicate: Predicate, wrapping: Wrapping, leading: Sequence[IndexFacts]) -> Cause:
    assert predicate.column is not None
    column = predicate.column.column
    index = f"{_named(leading)} on {column} cannot be used: " if leading else ""
    if wrapping is Wrapping.CAST:
        return Cause(
            "type-mismatch",
            f"{index}the column is converted to the type of the value in «{predicate.sql}»",
        )
    what = "stands inside arithmetic" if wrapping is Wrapping.ARITHMETIC else "is inside a function"
    return Cause("function-on-column", f"{index}it {what} in «{predicate.sql}»")


def _named(indexes: Sequence[IndexFacts]) -> str:
    return indexes[0].name


def _processes(case: Case, node: Node) -> float:
    return max(case.accounts[node.no].processes, 1.0)
