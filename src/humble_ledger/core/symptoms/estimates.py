"""Row estimates that are far off, at the step where it begins."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.estimates.accuracy import RowError, origins
from humble_ledger.core.plans.model import JOINS, Node, Operation, Role
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    predicates,
)
from humble_ledger.core.symptoms.model import Case, Cause, Symptom

STALE_SHARE = 0.1
_RESTING = frozenset((*JOINS, Operation.HASH, Operation.SORT, Operation.AGGREGATE))


def row_misestimates(case: Case) -> Iterable[Symptom]:
    """`row-misestimate`: only a measured plan can show it."""
    for error in origins(case.plan):
        node = error.node
        if not _matters(case, node):
            continue
        loop = _driven_loop(case, node)
        cost_ms, cost_share = _cost_of_loop(case, loop, error) if loop else (None, None)
        direction = "more" if error.under else "fewer"
        consequence = f"; it drives {loop.name} (step {loop.no})" if loop else ""
        yield Symptom(
            name="row-misestimate",
            node=node.no,
            step=node.name,
            summary=(
                f"{node.rows_seen:,.0f} rows came, {node.rows_expected:,.0f} expected "
                f"({error.factor:,.0f} times {direction}){consequence}"
            ),
            evidence={
                "rows_expected": node.rows_expected,
                "rows_seen": node.rows_seen,
                "factor": round(error.factor, 1),
                "loops": node.loops,
            },
            cause=_cause(case, error),
            cost_ms=cost_ms,
            cost_share=cost_share,
            covers=_covered(loop),
        )


def _covered(loop: Node | None) -> tuple[int, ...]:
    """The steps whose time a driven loop's misestimate counts."""
    if loop is None:
        return ()
    inner = next((c for c in loop.children if c.role is Role.INNER), None)
    return (loop.no, *(node.no for node in inner.walk())) if inner else (loop.no,)


def _matters(case: Case, node: Node) -> bool:
    """Whether a choice above rests on the estimate: how to join, how much memory to take."""
    return any(above.operation in _RESTING for above in path_to(case.plan.root, node)[:-1])


def _driven_loop(case: Case, node: Node) -> Node | None:
    """The nearest nested loop above that runs its inner side once for each of these rows."""
    path = path_to(case.plan.root, node)
    for place in range(len(path) - 2, -1, -1):
        parent, child = path[place], path[place + 1]
        if parent.operation is Operation.NESTED_LOOP and child.role is Role.OUTER:
            return parent
        if parent.operation in (Operation.AGGREGATE, Operation.LIMIT, Operation.DISTINCT):
            return None
    return None


def _cost_of_loop(case: Case, loop: Node, error: RowError) -> tuple[float | None, float]:
    """What the loop's inner side took beyond what the estimate allowed for."""
    inner = next((c for c in loop.children if c.role is Role.INNER), None)
    if inner is None or not error.under:
        return None, 0.0
    part = 1.0 - 1.0 / error.factor
    own = case.accounts[loop.no].own_ms
    below = case.accounts[inner.no].total_ms
    whole = case.accounts[case.plan.root.no].total_ms
    if own is None or below is None or not whole:
        return None, 0.0
    cost = min((own + below) * part, whole)
    return cost, cost / whole


def _cause(case: Case, error: RowError) -> Cause:
    node = error.node
    table = case.table_of(node)
    if table is None:
        if node.operation in JOINS:
            return Cause("join-estimate", "the share of rows that find a partner was misjudged")
        return Cause("unknown", "the plan alone does not show why")
    found = [p for t in (*node.conditions.search, *node.conditions.filter) for p in predicates(t)]
    if table.analyzed_at is None and not any(c.distinct for c in table.columns.values()):
        return Cause("statistics-missing", f"no statistics were ever gathered on {table.name}")
    return (
        _past_the_end(error, table, found)
        or _expression(found)
        or _stale(table)
        or _correlated(error, found)
        or Cause("unknown", "the plan alone does not show why")
    )


def _past_the_end(error: RowError, table: TableFacts, found: list[Predicate]) -> Cause | None:
    """New rows at the growing end of a column, asked for by «since …»."""
    if not error.under or not table.changes_since_analyze:
        return None
    for predicate in found:
        if predicate.kind is PredicateKind.RANGE and predicate.operator in (">", ">="):
            column = predicate.column.column if predicate.column else "the column"
            return Cause(
                "past-the-statistics",
                f"«{predicate.sql}» asks for the newest {column}, and "
                f"{table.changes_since_analyze:,} rows changed since statistics were gathered",
            )
    return None


def _expression(found: list[Predicate]) -> Cause | None:
    for predicate in found:
        if predicate.wrapping is not Wrapping.NONE:
            return Cause(
                "expression-without-statistics",
                f"the planner has no statistics on «{predicate.expression}» and guesses",
            )
    return None


def _stale(table: TableFacts) -> Cause | None:
    changed = table.changes_since_analyze or 0
    if table.rows and changed / table.rows > STALE_SHARE:
        return Cause(
            "statistics-stale",
            f"{changed:,} rows of {table.name} changed since statistics were gathered",
        )
    return None


def _correlated(error: RowError, found: list[Predicate]) -> Cause | None:
    equal = (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP)
    names = [p.column.column for p in found if p.kind in equal and p.column]
    if error.under and len(set(names)) > 1:
        listed = ", ".join(dict.fromkeys(names))
        return Cause(
            "correlated-columns",
            f"the planner multiplies the shares of {listed} as if they were independent",
        )
    return None
