"""Ways through a plan: from the root to a step, and by what parallel steps divide their rows."""

from __future__ import annotations

from humble_ledger.core.plans.model import Node, Operation, Plan, Role

# get_parallel_divisor in PostgreSQL's costsize.c: the leader helps less with each worker.
LEADER_LOSS = 0.3


def path_to(root: Node, wanted: Node) -> list[Node]:
    """The steps from the root down to the wanted one, both included; [] when it is not below."""
    if root.no == wanted.no:
        return [root]
    for child in root.children:
        below = path_to(child, wanted)
        if below:
            return [root, *below]
    return []


def processes_expected(gather: Node) -> float:
    """By how many the planner divides the rows below a gathering step; at least 1."""
    planned = gather.processes.planned if gather.processes else 0
    return max(1.0, planned + max(0.0, 1.0 - LEADER_LOSS * planned))


def rows_divided_by(plan: Plan, node: Node) -> float:
    """By how many the planner divided the rows it expects of this step.

    1 outside of gathers, and where no step below shares its rows out: each process has them all.
    """
    divisor = 1.0
    if not any(step.parallel_aware for step in node.walk()):
        return divisor
    for step in path_to(plan.root, node)[:-1]:
        if step.operation is Operation.GATHER:
            divisor *= processes_expected(step)
    return divisor


def all_given(join: Node, side: Node) -> bool:
    """Whether a join gives on every row of this side, partner or not."""
    outer = ("Full", "Left", "Anti", "Right Anti")
    whole = outer if side.role is Role.OUTER else ("Full", "Right", "Right Anti")
    return join.join_type in whole


def through_gathers(node: Node) -> Node:
    """The step itself, or the one whose rows it only gathers from other processes."""
    while node.operation is Operation.GATHER and len(node.inputs) == 1:
        node = node.inputs[0]
    return node
