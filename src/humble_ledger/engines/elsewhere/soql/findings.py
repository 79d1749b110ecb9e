"""What a list of routes tells: that the cheapest one reads everything, and the server's reasons."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Operation
from humble_ledger.core.symptoms.case import Case, Rule
from humble_ledger.core.symptoms.model import Cause, Symptom

_REASON = "Not considering filter"
_CAUSES = (
    ("unindexed", "no-index"),
    ("negative", "negation"),
    ("wildcard", "leading-wildcard"),
    ("null", "null-test"),
)


def whole_reads(case: Case) -> Iterable[Symptom]:
    """`selective-full-scan` of a route that reads every record, with what the server says of it."""
    node = case.plan.root
    reasons = [text for text in node.remarks if text.startswith(_REASON)]
    if node.operation is not Operation.FULL_SCAN or not reasons:
        return
    named = next((cause for word, cause in _CAUSES if word in reasons[0]), "server-says")
    kept = node.rows_expected
    told = " to keep {kept:whole}" if kept is not None else ""
    yield Symptom(
        name="selective-full-scan",
        node=node.no,
        step=node.name,
        summary=phrase("would read all records of {table}" + told, table=node.relation, kept=kept),
        evidence={"rows_kept": kept, "relative_cost": case.plan.cost_total},
        cause=Cause(named, phrase("the server says: {reasons}", reasons="; ".join(reasons))),
        cost_share=1.0,
    )


OWN_RULES: Sequence[Rule] = (whole_reads,)
