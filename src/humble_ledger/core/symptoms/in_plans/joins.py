"""Joins that make more rows than the query wants: untied, hidden by DISTINCT, or done too early."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import JOINS, Node, Operation, Role
from humble_ledger.core.plans.paths import path_to
from humble_ledger.core.plans.tables import alias_of, join_graph, reads_table
from humble_ledger.core.statements.conditions import columns_of, predicates
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 1_000
FEWEST_UNTIED_ROWS = 1_000  # fewer are a small list of pairs, which may well be wanted
# Of pairs of which one half is not shown: they are nothing but repetitions.
FEWEST_REPEATED_ROWS = 100
FAN_OUT = 10.0  # rows joined for each row that is kept
ROWS_PER_GROUP = 50.0
WORTH_A_WORD = 0.10  # of the plan's time
_DISTINCT = (Operation.DISTINCT, Operation.AGGREGATE, Operation.GROUP)
_PASSING = (
    Operation.SORT, Operation.INCREMENTAL_SORT, Operation.GATHER, Operation.MATERIALIZE,
    Operation.SUBQUERY,
)  # fmt: skip


def untied_joins(case: Case) -> Iterable[Symptom]:
    """`missing-join-condition`: every row of one group of tables meets every row of another."""
    plan = case.plan
    for groups in join_graph(plan).apart:
        join = _untied(case, groups)
        if join is None:
            continue
        sides = [child for child in join.children if child.role in (Role.OUTER, Role.INNER)]
        fewest = min(rows_of_side(case, side) for side in sides)
        made = case.rows(join)
        fewest_made = FEWEST_UNTIED_ROWS if _all_shown(case, join, groups) else FEWEST_REPEATED_ROWS
        if fewest < 2 or made < fewest_made:
            continue
        # With a tie, about one in so many of the rows would be left, here and above.
        above = [n.no for n in path_to(plan.root, join)]
        cost_ms, share = case.avoidable_of(above, 1.0 - 1.0 / fewest)
        told = " and ".join(" + ".join(group) for group in groups)
        yield Symptom(
            name="missing-join-condition",
            node=join.no,
            step=join.name,
            summary=message(
                "missing-join-condition",
                measured=plan.steps_measured,
                made=made,
                groups=[" + ".join(group) for group in groups],
            ),
            evidence={
                "rows_made": made,
                "rows_of_the_smaller_side": fewest,
                "groups": told,
            },
            cause=Cause(
                "join-condition-missing",
                message("join-condition-missing", one=groups[0], other=groups[1]),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(above),
        )


def distinct_fan_outs(case: Case) -> Iterable[Symptom]:
    """`distinct-hides-fan-out`: many rows are joined to be thrown away as repeated ones."""
    for top in _topmost(case.plan.root, _drops_repeats):
        steps, join = _chain_to_join(top)
        if join is None:
            continue
        made, kept = case.rows(join), case.rows(top)
        if made < FEWEST_ROWS or made < FAN_OUT * max(kept, 1.0):
            continue
        shown = {ref.alias for key in top.output for ref in columns_of(key)}
        joined = [alias_of(node) for node in join.walk() if reads_table(node)]
        only_tested = [alias for alias in dict.fromkeys(joined) if alias not in shown]
        if not only_tested or not shown:
            continue
        covers = [*(step.no for step in steps), join.no]
        cost_ms, share = case.avoidable_of(covers, 1.0 - kept / made)
        if share < WORTH_A_WORD:
            continue
        told = ", ".join(only_tested)
        yield Symptom(
            name="distinct-hides-fan-out",
            node=join.no,
            step=join.name,
            summary=message(
                "distinct-hides-fan-out", measured=case.plan.steps_measured, made=made, kept=kept
            ),
            evidence={"rows_joined": made, "rows_kept": kept, "only_tested": told},
            cause=Cause(
                "join-where-a-test-would-do",
                message("join-where-a-test-would-do", tables=only_tested),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def late_aggregations(case: Case) -> Iterable[Symptom]:
    """`aggregation-after-join`: rows are looked up one by one that could be condensed before."""
    for top in _topmost(case.plan.root, _condenses):
        join = _chain_to_join(top)[1]
        if join is None or join.join_type not in ("", "Inner", "Left"):
            continue
        made, groups = case.rows(join), max(case.rows(top), 1.0)
        sides = [child for child in join.children if child.role in (Role.OUTER, Role.INNER)]
        if len(sides) != 2 or made < FEWEST_ROWS or made < ROWS_PER_GROUP * groups:
            continue
        large, small = sorted(sides, key=lambda side: -rows_of_side(case, side))
        grouped = {ref.alias for key in top.group_keys for ref in columns_of(key)}
        counted = {
            ref.alias
            for text in top.output
            if text not in top.group_keys
            for ref in columns_of(text)
        } - grouped
        large_names, small_names = _names(large), _names(small)
        # Each large row must meet one small row at most, and all keys must be of the small side.
        if made > 1.05 * rows_of_side(case, large) or not counted <= large_names:
            continue
        if not grouped or not grouped <= small_names or not counted:
            continue
        # Grouped before it, the join would still handle a row for each value that it joins by.
        condensed = max(groups, _values_joined(case, join, large) or groups)
        if made < ROWS_PER_GROUP * condensed:
            continue
        cost_ms, share = case.avoidable_of([join.no], 1.0 - condensed / made)
        if share < WORTH_A_WORD:
            continue
        told = ", ".join(sorted(counted))
        yield Symptom(
            name="aggregation-after-join",
            node=join.no,
            step=join.name,
            summary=message(
                "aggregation-after-join",
                measured=case.plan.steps_measured,
                made=made,
                groups=groups,
            ),
            evidence={
                "rows_joined": made,
                "groups": groups,
                "values_joined": condensed,
                "condensed": told,
            },
            cause=Cause(
                "late-aggregation",
                message("late-aggregation", summed=sorted(counted), keys_of=sorted(small_names)),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=(join.no,),
        )


def _untied(case: Case, groups: tuple[tuple[str, ...], ...]) -> Node | None:
    """The lowest join whose sides are of different groups, without any condition."""
    of_group = {alias: number for number, group in enumerate(groups) for alias in group}
    found = None
    for node in case.plan.nodes():
        if node.operation not in JOINS or node.conditions.join or node.conditions.filter:
            continue
        sides = [c for c in node.children if c.role in (Role.OUTER, Role.INNER)]
        met = [{of_group[name] for name in _names(side) if name in of_group} for side in sides]
        if len(met) == 2 and met[0] and met[1] and met[0].isdisjoint(met[1]):
            found = node  # those that follow in the text are below
    return found


def _all_shown(case: Case, join: Node, groups: tuple[tuple[str, ...], ...]) -> bool:
    """Whether something of each group is given on by the join; so it is taken where unknown."""
    shown = {ref.alias for text in join.output for ref in columns_of(text)}
    return not case.plan.root.output or all(shown & set(group) for group in groups)


def _topmost(node: Node, wanted: Callable[[Node], bool]) -> Iterator[Node]:
    """The first steps from above that fit, not those below them."""
    if wanted(node):
        yield node
        return
    for child in node.children:
        yield from _topmost(child, wanted)


def _drops_repeats(node: Node) -> bool:
    if node.operation is Operation.DISTINCT:
        return True
    keys = set(node.group_keys)
    return node.operation in _DISTINCT and bool(keys) and set(node.output) <= keys


def _condenses(node: Node) -> bool:
    condensing = node.operation in (Operation.AGGREGATE, Operation.GROUP)
    return condensing and bool(node.group_keys) and not _drops_repeats(node)


def _chain_to_join(top: Node) -> tuple[list[Node], Node | None]:
    """The steps from ``top`` down to the join right below them, which come in a chain."""
    steps, node = [top], top
    while True:
        below = [c for c in node.children if c.role in (Role.OUTER, Role.MEMBER)]
        if len(below) != 1:
            return steps, None
        node = below[0]
        if node.operation in JOINS:
            return steps, node
        if node.operation not in (*_PASSING, *_DISTINCT):
            return steps, None
        steps.append(node)


def rows_of_side(case: Case, side: Node) -> float:
    """The rows that one side brings to a join, not counted again for each time it is read."""
    if side.role is Role.INNER and side.operation is Operation.MATERIALIZE:
        return side.rows_seen if side.rows_seen is not None else (side.rows_expected or 0.0)
    return case.rows(side)


def _values_joined(case: Case, join: Node, side: Node) -> float | None:
    """How many different values a side is joined by, by its tables' statistics; None if unknown."""
    texts = [*join.conditions.join, *(t for n in join.walk() for t in n.conditions.search)]
    of_alias = {alias_of(node): node for node in side.walk() if reads_table(node)}
    product: float | None = None
    for predicate in (p for text in texts for p in predicates(text)):
        for ref in (predicate.column, predicate.partner):
            other = predicate.partner if ref is predicate.column else predicate.column
            if ref is None or other is None or ref.alias not in of_alias:
                continue
            table = case.table_of(of_alias[ref.alias])
            column = table.columns.get(ref.column) if table else None
            found = column.distinct_values(table.rows) if table and column else None
            if other.alias in of_alias or found is None:
                continue
            product = found * (product or 1.0)
    return product


def _names(side: Node) -> set[str]:
    return {alias_of(node) for node in side.walk() if reads_table(node)}
