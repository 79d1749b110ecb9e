"""`time-in-few-queries`: where to begin, when a few queries take most of the time."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.messages import message
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.workload.ranking import RankedQuery

CONCENTRATED = "time-in-few-queries"
MOST_OF_IT = 0.5
FEWEST_QUERIES = 10
FEW = 0.15  # of the queries


def concentration_symptom(ranked: Sequence[RankedQuery]) -> Symptom | None:
    """Told when at most 15 % of ten or more queries take half of the time."""
    if len(ranked) < FEWEST_QUERIES:
        return None
    count = next((n for n, row in enumerate(ranked, 1) if row.running_share >= MOST_OF_IT), 0)
    if not count or count > max(1, FEW * len(ranked)):
        return None
    top = ranked[:count]
    names = [row.query.id for row in top]
    whole = sum(row.usage.total_ms for row in ranked)
    return Symptom(
        name=CONCENTRATED,
        node=0,
        step="",
        summary=message(
            "time-in-few-queries",
            queries=names,
            share=top[-1].running_share,
            whole_ms=whole,
            others=len(ranked) - count,
        ),
        evidence={
            "queries": ", ".join(names),
            "share": top[-1].running_share,
            "total_ms": round(whole, 3),
            "all_queries": len(ranked),
        },
        cause=Cause("few-queries-weigh-most", message("few-queries-weigh-most", queries=names)),
    )
