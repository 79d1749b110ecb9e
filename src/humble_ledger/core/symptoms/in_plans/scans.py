"""Full scans: the selective one that an index would spare, and the one that is right.

What decides is not a threshold but the cost model: a full scan is wrong when the route
through an index on its best condition would cost clearly less.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from humble_ledger.core.costs.model import Search
from humble_ledger.core.estimates.guessed import share_by_statistics
from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.plans.paths import path_to, rows_divided_by
from humble_ledger.core.plans.prepared import planned_for_any_value
from humble_ledger.core.routes.deciding import Decision, Decisive, decide
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import SMALL_PAGES, TableFacts
from humble_ledger.core.statements.conditions import Predicate, predicates
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.obstacles import (
    NOT_CHOSEN,
    generic,
    narrowest,
    obstacle,
    obstacle_by_plan,
    usable_leading,
)
from humble_ledger.core.symptoms.model import Cause, Symptom

RIGHT = "scan-is-right"
UNDECIDED = "index-saves-little"  # the cause of one that nobody has held against the planner
CLEARLY_CHEAPER = 0.5
FEWEST_UNKNOWN_ROWS = 10_000.0
FEW = 0.01  # of the rows are kept, or it may be right
COMMON = 0.05  # of the rows meet a condition: the first pages hold some
MOST_OF_IT = 0.5  # of the rows of a table: what reads fewer has stopped early
ROUNDING = 1e-4
UNLIKE_OTHERS = 10.0  # times fewer rows than a plan for any value expects


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
        if (case.table_of(node) is None or not case.priced) and case.plan.steps_measured:
            yield from _of_unknown_table(case, node)
        if not case.priced:
            continue  # nothing tells what an index would cost
        scan = _measure(case, node)
        if scan is None or case.avoidable_of(_spared(case, node), 1.0)[1] < WORTH_A_WORD:
            continue
        if _reads_little(case, scan):
            continue
        if scan.predicates and all(each.held_against_sub_query for each in scan.predicates):
            continue  # each row must be held against the sub-query, whatever leads to it
        once = (node.loops or 1) <= _processes(case, node)
        if scan.predicates and scan.index_cost < CLEARLY_CHEAPER * scan.scan_cost:
            route = _by_route(case, scan)
            if route is None or scan.kept_share < (route.break_even or 0.0):
                yield _selective(case, scan, route)
            elif once:
                yield _right(case, scan, route)
        elif once:
            found = _right(case, scan, _by_route(case, scan))
            if scan.index_cost <= scan.scan_cost:
                # Neither right nor clearly wrong: one that also covers may be worth it, which
                # only a planner can tell.
                found = replace(found, cause=Cause(UNDECIDED, found.cause.detail))
            yield found


def _reads_little(case: Case, scan: _Scan) -> bool:
    """Whether the table is small, or a LIMIT had enough after half of the rows or a few pages."""
    if (scan.node.loops or 1) > _processes(case, scan.node):
        return False
    read = min(1.0, scan.rows_read / scan.table.rows)
    # Of a rare value nobody knows how soon it comes, if there is one.
    common = scan.kept_share >= COMMON and read * scan.table.pages < SMALL_PAGES
    few = not scan.predicates or common
    return scan.table.is_small or (_stops_early(case, scan) and few)


def _stops_early(case: Case, scan: _Scan) -> bool:
    """Whether it need not go far; that fewer rows came than were counted once tells it of no plan
    that was run.
    """
    loops = max(1.0, (scan.node.loops or 1) / _processes(case, scan.node))
    short = scan.rows_read < MOST_OF_IT * loops * scan.table.rows
    return short and (scan.node.loops is None or _is_limited(case, scan.node))


def _is_limited(case: Case, node: Node) -> bool:
    above = path_to(case.plan.root, node)[:-1]
    return any(step.operation is Operation.LIMIT for step in above)


def _of_unknown_table(case: Case, node: Node) -> Iterable[Symptom]:
    """A scan that kept next to nothing, when only the plan is known."""
    kept = case.rows(node)
    read = kept + (node.discarded.by_filter or 0.0) * (node.loops or 0.0)
    found = [p for text in node.conditions.filter for p in predicates(text)]
    if not found or read < FEWEST_UNKNOWN_ROWS or kept > FEW * read:
        return
    cost_ms, share = case.avoidable(node, 1.0 - kept / read)
    if share < WORTH_A_WORD:
        return
    yield Symptom(
        name="selective-full-scan",
        node=node.no,
        step=node.name,
        summary=message(
            "scan-keeps-few", measured=True, whole=False, read=read, table=node.relation, kept=kept
        ),
        evidence={"rows_read": read, "rows_kept": kept, "kept_share": kept / read},
        cause=_of_table(case, node, found),
        cost_ms=cost_ms,
        cost_share=share,
    )


def _of_table(case: Case, node: Node, found: Sequence[Predicate]) -> Cause:
    """Why no index led to the rows: by the table's facts, where there are some."""
    table = case.table_of(node)
    if table is None:
        return obstacle_by_plan(case, node.relation, found)
    best = narrowest(case, node, table, found)
    return obstacle(case, table, best or found[0], found)


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
        read = table.rows * case.walked_share(node)
        workers = rows_divided_by(case.plan, node) if node.parallel_aware else 1.0
        expected = (node.rows_expected or 0.0) * workers
        expected = min(expected, case.rows(node)) if node.share_unknown else expected
        turned = case.rows_as_turned(node)
        expected = expected if turned is None else turned
        share = min(1.0, expected / table.rows)
    quals = len(found)
    scan_cost = case.costs.full_scan(table, quals)
    return _Scan(node, table, read, share, scan_cost, _index_cost(case, table, found, share), found)


def _index_cost(case: Case, table: TableFacts, found: Sequence[Predicate], share: float) -> float:
    """The cost by an index on the best condition, if it keeps ``share`` of the rows."""
    best = min(found, key=lambda p: share_by_statistics(table, p), default=None)
    facts = table.columns.get(best.column.column) if best and best.column else None
    columns = [facts] if facts else list(table.columns.values())[:1]
    if not columns:
        return float("inf")
    shape = case.costs.sizes.in_order(table, columns)
    search = Search(share, share, quals=1, filters=max(0, len(found) - 1))
    correlation = columns[0].correlation or 0.0
    return min(
        case.costs.index_scan(table, shape, search, correlation).total,
        case.costs.bitmap_scan(table, shape, search).total,
    )


def _selective(case: Case, scan: _Scan, route: Decision | None) -> Symptom:
    node, kept = scan.node, scan.kept_share * scan.rows_read
    loops = (node.loops or 1) / _processes(case, node)
    spared = _spared(case, node)
    cost_ms, cost_share = case.avoidable_of(spared, 1.0 - scan.kept_share)
    ended = _stops_early(case, scan)
    return Symptom(
        name="selective-full-scan",
        node=node.no,
        step=node.name,
        summary=message(
            "scan-keeps-few",
            measured=case.plan.steps_measured,
            whole=not ended,
            read=scan.rows_read / loops,
            table=scan.table.name,
            times=loops,
            kept=kept,
            rows_when_none=scan.table.rows if ended and _is_limited(case, node) else None,
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
        cause=_for_any_value(case, scan)
        or (_not_chosen(case, scan, route) if route else _cause(case, scan)),
        cost_ms=cost_ms,
        cost_share=cost_share,
        covers=spared,
    )


def _spared(case: Case, scan: Node) -> tuple[int, ...]:
    """The steps that go with a scan: itself, and what gathers from processes for its sake alone.

    Nobody would start processes without the scan, and on a busy machine starting them may take
    longer than the scan itself.
    """
    above = [step for step in path_to(case.plan.root, scan) if step.operation is Operation.GATHER]
    if not scan.parallel_aware or not above:
        return (scan.no,)
    full = [step for step in above[-1].walk() if step.operation is Operation.FULL_SCAN]
    return (scan.no, above[-1].no) if full == [scan] else (scan.no,)


def _for_any_value(case: Case, scan: _Scan) -> Cause | None:
    """The scan would have been avoided with the value at hand; None where it was, or no index is.

    Rows are those of all processes and loops.
    """
    node = scan.node
    expected = (node.rows_expected or 0.0) * (node.loops or 1.0)
    seen = scan.kept_share * scan.rows_read
    if not case.plan.steps_measured or expected < UNLIKE_OTHERS * max(seen, 1.0):
        return None
    for each in scan.predicates:
        if planned_for_any_value(case.plan, each) and usable_leading(scan.table, each):
            return generic(each, expected, seen)
    return None


def _cause(case: Case, scan: _Scan) -> Cause:
    best = narrowest(case, scan.node, scan.table, scan.predicates)
    if best is None:
        sql = scan.predicates[0].sql
        return Cause("condition-not-searchable", message("not-searchable", condition=sql))
    return obstacle(case, scan.table, best, scan.predicates)


def _right(case: Case, scan: _Scan, route: Decision | None) -> Symptom:
    table, share = scan.table, scan.kept_share
    even = (route.break_even if route else None) or _break_even(case, scan)
    if not scan.predicates:
        detail = message("no-filter", table=table.name)
    elif route is not None:
        detail = message(
            "route-costs-more",
            share=share,
            index=route.index,
            cost=route.other_cost,
            now=route.chosen_cost,
            even=even,
        )
    else:
        detail = message(
            "index-costs-more", share=share, cost=scan.index_cost, now=scan.scan_cost, even=even
        )
    return Symptom(
        name=RIGHT,
        node=scan.node.no,
        step=scan.node.name,
        summary=message("scan-is-right", table=table.name),
        evidence={
            "rows_read": scan.rows_read,
            "kept_share": share,
            "break_even_share_predicted": round(even, 4),
            "scan_cost_estimated": round(scan.scan_cost, 2),
            "index_cost_predicted": round(scan.index_cost, 2),
            "route_cost_estimated": route.other_cost if route else None,
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


def _by_route(case: Case, scan: _Scan) -> Decision | None:
    """What the planner says of the way by an index that is there; None when it cannot tell."""
    best = narrowest(case, scan.node, scan.table, scan.predicates)
    if best is None or not usable_leading(scan.table, best):
        return None
    other = case.planner.plan_without(frozenset((Method.FULL_SCAN,)))
    if other is None:
        return None
    found = decide(case.plan, other, case.tables, case.costs)
    about_it = found.by is Decisive.SHARE and found.table == str(scan.table.name)
    return found if about_it and found.break_even is not None else None


def _not_chosen(case: Case, scan: _Scan, decision: Decision) -> Cause:
    """An index could serve and was not taken: the route's cost, and where it would win."""
    assert decision.break_even is not None and decision.expected is not None
    detail = message(
        "route-not-taken",
        index=decision.index,
        cost=decision.other_cost,
        now=decision.chosen_cost,
        even=decision.break_even,
        expected=decision.expected,
        came=scan.kept_share if case.plan.steps_measured else None,
    )
    return Cause(NOT_CHOSEN, detail)


def _processes(case: Case, node: Node) -> float:
    return max(case.accounts[node.no].processes, 1.0)
