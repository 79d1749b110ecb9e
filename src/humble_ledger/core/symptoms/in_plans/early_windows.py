"""`window-before-join`: a window function over all rows, of which a few groups are asked for.

As with groups, a join's value does not go into the sub-query: all of it is sorted and numbered
first. By which columns a window groups stands in no plan of some versions, so that the statement
is looked at.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import JOINS, Node, Operation, Role
from humble_ledger.core.plans.paths import all_given
from humble_ledger.core.plans.tables import alias_of, reads_table
from humble_ledger.core.statements.conditions import columns_of
from humble_ledger.core.statements.numbered import windows_group_by
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.early_groups import FEWEST_ROWS, MANY, PASSING
from humble_ledger.core.symptoms.in_plans.joins import rows_of_side
from humble_ledger.core.symptoms.model import Cause, Symptom


def early_windows(case: Case) -> Iterable[Symptom]:
    """`window-before-join`."""
    keys = windows_group_by(case.statement, case.dialect.parser)
    if not keys:
        return
    for join, side, other in _sides(case):
        steps = _down_to_window(side)
        if steps is None or all_given(join, side):
            continue
        window = steps[-1]
        # A join may end before it has taken all; what was sorted for it was all of them.
        rows = max(case.rows(step) for step in window.walk())
        asked = max(rows_of_side(case, other), 1.0)
        key = _key_of(join, steps, keys)
        groups = _groups(case, window, key)
        if rows < FEWEST_ROWS or groups is None or groups < MANY * asked:
            continue
        covers = [*(step.no for step in steps[:-1]), *(step.no for step in window.walk())]
        cost_ms, share = case.avoidable_of(covers, 1.0 - asked / groups)
        if share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="window-before-join",
            node=window.no,
            step=window.name,
            summary=message(
                "window-before-join",
                measured=case.plan.steps_measured,
                rows=rows,
                tables=list(dict.fromkeys(n.relation for n in window.walk() if n.relation)),
                asked=asked,
            ),
            evidence={"rows_computed": rows, "groups": groups, "rows_that_ask": asked},
            cause=Cause("early-window", message("early-window", column=key)),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def _sides(case: Case) -> Iterator[tuple[Node, Node, Node]]:
    """Each join that ran, with either side and the other one."""
    for join in case.plan.nodes():
        sides = [child for child in join.children if child.role in (Role.OUTER, Role.INNER)]
        if join.operation in JOINS and not join.never_ran and len(sides) == 2:
            yield join, sides[0], sides[1]
            yield join, sides[1], sides[0]


def _down_to_window(side: Node) -> list[Node] | None:
    """The steps of a side down to its first window function; None where it has none."""
    steps = [side]
    while steps[-1].operation in PASSING and len(steps[-1].inputs) == 1:
        steps.append(steps[-1].inputs[0])
    return steps if steps[-1].operation is Operation.WINDOW else None


def _key_of(join: Node, steps: list[Node], keys: frozenset[str]) -> str:
    """The column of the groups that the join compares with the other side; "" for none."""
    names = {alias_of(step) for step in steps if step.operation is Operation.SUBQUERY}
    names |= {alias_of(node) for node in steps[-1].walk() if reads_table(node)}
    for text in (*join.conditions.join, *join.conditions.search):
        found = columns_of(text)
        mine = [ref for ref in found if ref.alias in names and ref.column in keys]
        if mine and len(mine) < len(found):
            return mine[0].column
    return ""


def _groups(case: Case, window: Node, key: str) -> float | None:
    """How many groups there are, by the statistics of the key's table; None when unknown."""
    for node in window.walk():
        table = case.table_of(node) if reads_table(node) else None
        column = table.columns.get(key) if table is not None else None
        if table is not None and column is not None:
            return column.distinct_values(table.rows)
    return None
