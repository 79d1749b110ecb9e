"""`aggregation-before-join`: all groups are made, and a few rows ask for theirs.

A condition does not go into a sub-query or a view that groups, when its value comes from another
table: planners then make every group first.
"""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import JOINS, Node, Operation, Role
from humble_ledger.core.plans.paths import all_given
from humble_ledger.core.plans.tables import alias_of, reads_table
from humble_ledger.core.statements.conditions import ColumnRef, columns_of
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.joins import rows_of_side
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_ROWS = 10_000.0
MANY = 10.0  # groups for each row that asks for one
_GROUPS = (Operation.AGGREGATE, Operation.GROUP)
PASSING = (
    Operation.HASH, Operation.SORT, Operation.INCREMENTAL_SORT, Operation.MATERIALIZE,
    Operation.GATHER, Operation.SUBQUERY,
)  # fmt: skip


def early_aggregations(case: Case) -> Iterable[Symptom]:
    """`aggregation-before-join`."""
    for join in case.plan.nodes():
        if join.operation not in JOINS or join.never_ran:
            continue
        sides = [child for child in join.children if child.role in (Role.OUTER, Role.INNER)]
        if len(sides) != 2:
            continue
        for side, other in (sides, sides[::-1]):
            steps = _down_to_groups(side)
            if steps is None or all_given(join, side):
                continue
            groups = steps[-1]
            made, asked = case.rows(groups), max(rows_of_side(case, other), 1.0)
            read = _grouped(case, groups)
            if read < FEWEST_ROWS or made < MANY * asked or not _by_key(join, steps):
                continue
            covers = [*(step.no for step in steps[:-1]), *(step.no for step in groups.walk())]
            cost_ms, share = case.avoidable_of(covers, 1.0 - asked / made)
            if share < WORTH_A_WORD:
                continue
            tables = list(dict.fromkeys(n.relation for n in groups.walk() if n.relation))
            keys = [ref.column for key in groups.group_keys for ref in columns_of(key)]
            yield Symptom(
                name="aggregation-before-join",
                node=groups.no,
                step=groups.name,
                summary=message(
                    "aggregation-before-join",
                    measured=case.plan.steps_measured,
                    rows=read,
                    tables=tables,
                    groups=made,
                    asked=asked,
                ),
                evidence={"rows_grouped": read, "groups": made, "rows_that_ask": asked},
                cause=Cause("early-aggregation", message("early-aggregation", keys=keys)),
                cost_ms=cost_ms,
                cost_share=share,
                covers=tuple(covers),
            )
            break


def _down_to_groups(side: Node) -> list[Node] | None:
    """The steps of a side down to the one that makes groups; None where it makes none."""
    steps = [side]
    while steps[-1].operation in PASSING and len(steps[-1].inputs) == 1:
        steps.append(steps[-1].inputs[0])
    top = steps[-1]
    return steps if top.operation in _GROUPS and top.group_keys else None


def _grouped(case: Case, groups: Node) -> float:
    """The rows that are grouped; where processes group theirs first, those that come to them."""
    rows = 0.0
    step = groups
    while len(step.inputs) == 1:
        below = step.inputs[0]
        rows = max(rows, case.rows(below))
        if below.operation not in (*_GROUPS, *PASSING):
            break
        step = below
    return rows


def _by_key(join: Node, steps: list[Node]) -> bool:
    """Whether the join compares a key of the groups with something of the other side."""
    groups = steps[-1]
    keys = {ref.column for key in groups.group_keys for ref in columns_of(key)}
    names = {alias_of(step) for step in steps if step.operation is Operation.SUBQUERY}
    names |= {alias_of(node) for node in groups.walk() if reads_table(node)}
    for text in (*join.conditions.join, *join.conditions.search):
        mine: list[ColumnRef] = [ref for ref in columns_of(text) if ref.alias in names]
        if any(ref.column in keys for ref in mine) and len(mine) < len(columns_of(text)):
            return True
    return False
