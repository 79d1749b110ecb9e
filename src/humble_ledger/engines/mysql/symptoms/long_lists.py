"""Thousands of values in a statement: read, planned and kept anew each time it is sent."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.statements.conditions import PredicateKind, predicates
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Cause, Symptom

MANY = 1_000


def long_lists(case: Case) -> Iterable[Symptom]:
    """`long-in-list`."""
    for node in case.plan.nodes():
        count = max(_listed(node), _as_rows(node))
        if count < MANY:
            continue
        yield Symptom(
            name="long-in-list",
            node=node.no,
            step=node.name,
            summary=phrase("{count:whole} values stand in the statement", count=count),
            evidence={"values": count},
            cause=Cause(
                "list-in-the-statement",
                phrase(
                    "they are parsed and planned again each time, and each list is another text; "
                    "a temporary table of them, joined, is planned as what it is"
                ),
            ),
        )


def _listed(node: Node) -> int:
    counts = [
        part.value.count(",") + 1
        for text in node.conditions.all()
        if text.count(",") >= MANY
        for part in predicates(text)
        if part.kind is PredicateKind.MEMBERSHIP
    ]
    return max(counts, default=0)


def _as_rows(node: Node) -> float:
    """Rows of a list that is read as a table."""
    if node.operation is not Operation.MATERIALIZE:
        return 0.0
    leaves = [each for each in node.walk() if not each.children]
    made = all(each.operation is Operation.RESULT for each in leaves)
    return node.rows_expected or 0.0 if made and leaves else 0.0
