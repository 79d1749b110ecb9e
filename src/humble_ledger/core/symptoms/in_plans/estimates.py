"""Row estimates that are far off, at the step where it begins."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from humble_ledger.core.estimates.accuracy import RowError, origins
from humble_ledger.core.estimates.chain import Chain, chain_of
from humble_ledger.core.estimates.position import before, literal_of
from humble_ledger.core.messages import Message, message, moment
from humble_ledger.core.plans.model import JOINS, SCANS, Node, Operation, Role
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.plans.prepared import planned_for_any_value
from humble_ledger.core.plans.tables import alias_of
from humble_ledger.core.schema.casts import real_wrapping
from humble_ledger.core.schema.facts import HOLDS_ROWS, TableFacts
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    columns_of,
    predicates,
)
from humble_ledger.core.statements.plainly import plainly
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.in_plans.obstacles import called, generic
from humble_ledger.core.symptoms.model import Cause, Symptom

WHOLE_ORDER, FEWEST_LONE_ROWS = 10.0, 1_000.0
_RECURSIVE = re.compile(r"\bWITH\s+RECURSIVE\b", re.IGNORECASE)
_RESTING = frozenset((*JOINS, Operation.HASH, Operation.SORT, Operation.AGGREGATE))


def row_misestimates(case: Case) -> Iterable[Symptom]:
    """`row-misestimate`: only a measured plan can show it."""
    for error in origins(case.plan):
        node = error.node
        if not (_matters(case, node) or _far_off(case, error)):
            continue
        loop = _driven_loop(case, node)
        cost_ms, cost_share = _cost_of_loop(case, loop, error) if loop else (None, None)
        chain = _chain(case, error)
        yield Symptom(
            name="row-misestimate",
            node=node.no,
            step=node.name,
            summary=message(
                "row-misestimate",
                seen=node.rows_seen,
                expected=node.rows_expected,
                factor=error.factor,
                more=error.under,
                drives=loop.name if loop else None,
                drives_step=loop.no if loop else None,
            ),
            evidence={
                "rows_expected": node.rows_expected,
                "rows_seen": node.rows_seen,
                "factor": round(error.factor, 1),
                "loops": node.loops,
            },
            cause=_cause(case, error, chain),
            chain=chain,
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
    return any(_rests(above) for above in path_to(case.plan.root, node)[:-1])


def _far_off(case: Case, error: RowError) -> bool:
    """Whether the way a table is read rests on an estimate that is wrong by a whole order."""
    node = error.node
    rows = max(node.rows_seen or 0.0, node.rows_expected or 0.0) * (node.loops or 1.0)
    return node.operation in SCANS and error.factor >= WHOLE_ORDER and rows >= FEWEST_LONE_ROWS


def _rests(above: Node) -> bool:
    """Whether a step was chosen, or its memory taken, for the rows that come to it."""
    whole = above.operation is Operation.AGGREGATE and not above.group_keys
    return above.operation in _RESTING and not whole


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
    own = case.accounts[loop.no].self_ms
    below = case.accounts[inner.no].total_ms
    whole = case.accounts[case.plan.root.no].total_ms
    if own is None or below is None or not whole:
        return None, 0.0
    cost = min((own + below) * part, whole)
    return cost, cost / whole


def _cause(case: Case, error: RowError, chain: Chain | None) -> Cause:
    node, found = error.node, _conditions(error.node)
    table = case.table_of(node)
    if table is None:
        if node.operation in JOINS:
            return Cause("join-estimate", message("join-estimate"))
        if _within_recursion(case, node):
            return Cause(
                "recursion-guessed",
                message("recursion-guessed"),
            )
        told = _any_value(case, error, found) or _unfixed(case, found)
        return told or Cause("unknown", _where_to_look(node, found))
    if table.analyzed_at is None and not any(c.distinct for c in table.columns.values()):
        return Cause("statistics-missing", message("never-gathered", table=table.name))
    own = [p for p in found if not p.of_sub_query]
    if node.share_unknown and own:
        named = {r.column for text in node.conditions.filter for r in columns_of(text)}
        names = sorted(named & table.columns.keys())
        return Cause(
            "no-column-statistics",
            message("no-column-statistics", columns=names),
        )
    return (
        _past_the_end(case, error, table, found)
        or _expression(table, own)
        or _any_value(case, error, found)
        or _unfixed(case, found)
        or _stale(table)
        or _together(error, found, chain)
        or _uncommon_value(table, error, found)
        or Cause("unknown", message("plan-does-not-show-why"))
    )


def _within_recursion(case: Case, node: Node) -> bool:
    """Whether a step reads what the rounds of a recursion have found so far."""
    above = path_to(case.plan.root, node)[:-1]
    return (
        node.operation is Operation.CTE
        and any(step.operation is Operation.SET_OPERATION for step in above)
        and _RECURSIVE.search(case.statement) is not None
    )


def _where_to_look(node: Node, found: Sequence[Predicate]) -> Message:
    """What to ask of a server that is not at hand."""
    names = list(dict.fromkeys(p.column.column for p in found if p.column))
    return message("see-when-gathered", columns=names, table=node.relation)


def _conditions(node: Node) -> list[Predicate]:
    texts = [t for n in node.walk() for t in (*n.conditions.search, *n.conditions.filter)]
    return list(dict.fromkeys(p for text in texts for p in predicates(text)))


def _chain(case: Case, error: RowError) -> Chain | None:
    """How the planner came to its estimate of a table's rows, asked of it condition by condition.

    None when a condition compares with another table, or there is nobody to ask.
    """
    node, table = error.node, case.table_of(error.node)
    if table is None or table.kind not in HOLDS_ROWS:
        return None
    found = _conditions(node)
    aliases = {ref.alias for p in found for ref in columns_of(p.sql)}
    if aliases - {alias_of(node), ""}:
        return None
    processes = case.accounts[node.no].processes
    seen = case.rows(node) / max((node.loops or 1.0) / processes, 1.0)

    def ask(conditions: Sequence[str]) -> float | None:
        return case.planner.rows_matching(table.name, node.alias, conditions)

    return chain_of(str(table.name), table.rows, [p.sql for p in found], seen, ask)


def _past_the_end(
    case: Case, error: RowError, table: TableFacts, found: list[Predicate]
) -> Cause | None:
    """New rows at the growing end of a column, asked for by "since …"."""
    if not error.under or not table.changes_unseen:
        return None
    for predicate in found:
        growing = predicate.kind is PredicateKind.RANGE and predicate.operator in (">", ">=")
        if not growing or predicate.column is None:
            continue
        column = predicate.column.column
        values = case.planner.column_values(table.name, column)
        bounds = values.histogram if values is not None else ()
        # Without the statistics' last value it can only be supposed.
        asked = literal_of(predicate.value)
        if bounds and asked is not None and before(asked, bounds[-1]):
            continue
        last = bounds[-1] if bounds else None
        return Cause(
            "beyond-statistics",
            message(
                "beyond-statistics",
                condition=predicate.plain,
                column=column,
                changed=table.changes_unseen,
                last_value=last,
            ),
        )
    return None


def _expression(table: TableFacts, found: list[Predicate]) -> Cause | None:
    for predicate in found:
        column = table.columns.get(predicate.column.column) if predicate.column else None
        wrapped = predicate.column and real_wrapping(column, predicate) is not Wrapping.NONE
        if wrapped or predicate.several:
            return Cause(
                "expression-without-statistics",
                message("expression-without-statistics", expression=plainly(predicate.expression)),
            )
    return None


def _any_value(case: Case, error: RowError, found: list[Predicate]) -> Cause | None:
    """One plan of a prepared statement, which was made for any value and met this one."""
    for predicate in found:
        if planned_for_any_value(case.plan, predicate):
            node = error.node
            return generic(predicate, node.rows_expected or 0.0, node.rows_seen or 0.0)
    return None


def _unfixed(case: Case, found: list[Predicate]) -> Cause | None:
    """Values the planner cannot know: of a sub-query, or another for each row."""
    for predicate in found:
        of_query = predicate.of_sub_query or "$" in predicate.value
        changing = case.planner.volatile_functions(called(predicate))
        if of_query or changing:
            return Cause(
                "value-not-known-beforehand",
                message(
                    "value-not-known-beforehand", of_query=bool(of_query), condition=predicate.plain
                ),
            )
    return None


def _stale(table: TableFacts) -> Cause | None:
    if table.rows and table.is_stale:
        return Cause(
            "statistics-stale",
            message(
                "changed-since-gathered",
                changed=table.changes_unseen,
                table=table.name,
                at=moment(table.analyzed_at),
            ),
        )
    return None


def _together(error: RowError, found: list[Predicate], chain: Chain | None) -> Cause | None:
    """Conditions whose shares the planner multiplies although they have to do with each other."""
    equal = (PredicateKind.EQUALITY, PredicateKind.MEMBERSHIP)
    names = list(dict.fromkeys(p.column.column for p in found if p.kind in equal and p.column))
    if len(names) < 2 or (chain is None and not error.under):
        return None
    if chain is None:
        return Cause(
            "correlated-columns",
            message("shares-multiplied", columns=names),
        )
    if not chain.multiplied:
        return None
    return Cause(
        "correlated-columns",
        message(
            "correlated-columns",
            shares=[link.share for link in chain.links],
            conditions=[plainly(link.condition) for link in chain.links],
            product=chain.product,
            table=chain.table,
            seen=(chain.seen_rows or 0.0) / chain.table_rows,
            together=error.under,
            columns=names,
        ),
    )


def _uncommon_value(table: TableFacts, error: RowError, found: list[Predicate]) -> Cause | None:
    """A value with many rows that is not among those the statistics list."""
    if not error.under or len(found) != 1 or found[0].kind is not PredicateKind.EQUALITY:
        return None
    column = table.columns.get(found[0].column.column) if found[0].column else None
    if column is None or not column.common_count:
        return None
    return Cause(
        "value-not-listed",
        message("value-not-listed", listed=column.common_count, column=column.name),
    )
