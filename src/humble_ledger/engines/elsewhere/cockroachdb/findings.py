"""What only CockroachDB's plans tell: how long a step waited for those who write the same rows."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from humble_ledger.core.messages import phrase
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case, Rule
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.engines.elsewhere.cockroachdb.figures import milliseconds


def waits_for_writers(case: Case) -> Iterable[Symptom]:
    """`waits-for-writers`: most of a step's time others held what it wanted to read."""
    whole = case.plan.execution_ms
    for node in case.plan.nodes():
        told = node.details.get("KV contention time")
        waited = milliseconds(told) if isinstance(told, str) else None
        if not waited or not whole or waited < WORTH_A_WORD * whole:
            continue
        yield Symptom(
            name="waits-for-writers",
            node=node.no,
            step=node.name,
            summary=phrase(
                "waited {waited:whole} ms for transactions that write the same rows", waited=waited
            ),
            evidence={"waited_ms": waited, "execution_ms": whole},
            cause=Cause(
                "contention",
                phrase(
                    "other transactions held rows of {table}: no index helps; look for what holds "
                    "them long, and read older rows (AS OF SYSTEM TIME) where that will do",
                    table=node.relation or "its table",
                ),
            ),
            cost_ms=min(waited, whole),
            cost_share=min(1.0, waited / whole),
        )


OWN_RULES: Sequence[Rule] = (waits_for_writers,)
