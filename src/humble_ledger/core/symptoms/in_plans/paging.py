"""Pages far into a result: rows that are found, put in order, and thrown away."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import BESIDE, Node, Operation
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Cause, Symptom

FEWEST_SKIPPED = 1_000.0
DEEP = 10.0  # rows skipped for each row given
WORTH_A_WORD = 0.10


def deep_pages(case: Case) -> Iterable[Symptom]:
    """`deep-paging`: OFFSET makes the server produce all rows before the page."""
    for node in case.plan.nodes():
        if node.operation is not Operation.LIMIT or not node.children or node.never_ran:
            continue
        given, skipped = given_and_skipped(node)
        if skipped < FEWEST_SKIPPED or skipped < DEEP * max(given, 1.0):
            continue
        covers = [each.no for each in node.walk()]
        cost_ms, share = case.avoidable_of(covers, skipped / (skipped + given))
        if share < WORTH_A_WORD:
            continue
        below = next((n for n in node.walk() if n.sort_keys), None)
        yield Symptom(
            name="deep-paging",
            node=node.no,
            step=node.name,
            summary=message(
                "deep-paging", measured=case.plan.steps_measured, made=skipped + given, given=given
            ),
            evidence={"rows_given": given, "rows_skipped": skipped},
            cause=Cause(
                "offset-skips-rows",
                message("offset-skips-rows", keys=below.sort_keys if below else ()),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def given_and_skipped(node: Node) -> tuple[float, float]:
    """The rows that a LIMIT gives, and those that its OFFSET passes over."""
    if not node.inputs:
        return 0.0, 0.0
    child = node.inputs[0]
    if node.loops is not None:
        given = (node.rows_seen or 0.0) * node.loops
        return given, (child.rows_seen or 0.0) * (child.loops or 0.0) - given
    # PostgreSQL's adjust_limit_rows_costs: what is skipped is added to the start-up cost.
    given = node.rows_expected or 0.0
    if node.rows_skipped:
        return given, min(node.rows_skipped, child.rows_expected or node.rows_skipped)
    if node.cost is None or child.cost is None or child.cost.total <= child.cost.startup:
        return given, 0.0
    # So is what sub-queries for a value cost.
    beside = sum(c.cost.total for c in node.children if c.role in BESIDE and c.cost is not None)
    begun = node.cost.startup - child.cost.startup - beside
    part = max(0.0, begun) / (child.cost.total - child.cost.startup)
    return given, part * (child.rows_expected or 0.0)
