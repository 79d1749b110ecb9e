"""A process that writes to a ledger without end, and says of each step when it is saved.

Run as ``python -m tests.ledger.writer PATH``; each line it prints is an id that must be there from
then on, whatever happens to the process.
"""

from __future__ import annotations

import sys
from pathlib import Path

from humble_ledger.core.entries import SettlementEntry
from humble_ledger.core.messages import phrase
from humble_ledger.core.plans.model import Cost, Node, Operation, Pages, Plan
from humble_ledger.core.remedies.index_text import parse_index
from humble_ledger.core.remedies.model import Prediction, index_remedy
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.trials.model import QueryTrial, Side, Trial, Verdict
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.shelf import now
from humble_ledger.ledger.store.place import place_of

PLAN = Plan("any", "1", Node(1, Operation.FULL_SCAN, "Scan", cost=Cost(0, 9)), measured=False)
SYMPTOM = Symptom(
    "selective-full-scan", 1, "step", phrase("words"), {"rows": 1}, Cause("no-index", phrase("d"))
)


def _said(id_: str) -> None:
    sys.stdout.write(f"{id_}\n")
    sys.stdout.flush()


def write(place: str, name: str) -> None:
    """Whole chains one after the other, from a query to a settled trial."""
    ledger, number = Ledger(place_of(place, Path.cwd())), 0
    while True:
        number += 1
        sql = f"SELECT {name}_{number} FROM t"
        query = ledger.queries.keep(sql)
        _said(query)
        plans = [
            ledger.plans.keep(Statement(sql), PLAN, {"a": 1}, query=query, origin=origin)
            for origin in ("read", "trial-before", "trial-after")
        ]
        for each in plans:
            _said(each.id)
        for symptom in ledger.symptoms.keep(plans[0], [SYMPTOM]):
            _said(symptom.id)
        remedy = ledger.remedies.keep(
            index_remedy(
                parse_index(f"t ({name}_{number})", ""), reason="x",
                predictions=(Prediction(query, 9, 1, "formula"),),
            )
        )  # fmt: skip
        _said(remedy.id)
        trial, _ = ledger.trials.begin("any://x", ledger.uid, "host:1")
        _said(trial)
        before, after = (
            Side((2.0,) * 6, 3.0, 2.0, 9.0, Pages(1, 2), 4, plan.id) for plan in plans[1:]
        )
        tried = QueryTrial(
            query, Verdict.FASTER, "x", before, after, RatioInterval(0.5, 0.4, 0.6, 0.95, 6), True,
            "the same", True,
        )  # fmt: skip
        ledger.trials.end(
            trial, "done", Trial(Verdict.FASTER, "stages", (remedy.id,), (tried,), 1.0, 1)
        )
        ledger.trials.settle(
            ledger.trials.get(trial), SettlementEntry(trial, now(), "keep", "x", ()), None
        )
        ledger.notes.add(query, "seen")


if __name__ == "__main__":
    write(sys.argv[1], sys.argv[2])
