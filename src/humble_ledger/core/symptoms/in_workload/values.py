"""`slow-for-some-values`: one statement that behaves differently by the values it is sent with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.messages import message
from humble_ledger.core.symptoms.model import Cause, Symptom
from humble_ledger.core.workload.values import SlowValue

SLOW_FOR_SOME = "slow-for-some-values"
MOST_TOLD = 5
MANY = 5.0  # times the rows of another value


@dataclass(frozen=True, slots=True)
class PlannedFor:
    """What the planner makes of the statement with a slow value, and with another one.

    Rows are what it expects the plan to read from its tables; ``same_plan`` tells that both
    have the same steps.
    """

    slow_rows: float
    other_rows: float
    same_plan: bool
    slow_way: str
    other_way: str

    @property
    def differs(self) -> bool:
        """Whether the planner expects clearly more of the slow value."""
        return self.slow_rows >= MANY * max(self.other_rows, 1.0)


def value_symptom(
    found: Sequence[tuple[str, SlowValue]], planned: PlannedFor | None
) -> Symptom | None:
    """The symptom of values that go with slow runs, by the name of their place; None without."""
    if not found:
        return None
    place = found[0][0]
    mine = [each for name, each in found if name == place]
    first = mine[0]
    values = [str(each.value) for each in mine[:MOST_TOLD]]
    more = max(0, len(mine) - MOST_TOLD)
    runs = sum(each.runs for each in mine)
    return Symptom(
        name=SLOW_FOR_SOME,
        node=0,
        step="",
        summary=message(
            "slow-for-some-values",
            place=place,
            values=values,
            more=more,
            median_ms=first.median_ms,
            others_ms=first.others_ms,
            runs=runs,
        ),
        evidence={
            "place": place,
            "values": ", ".join(values) + (f" and {more} more" if more else ""),
            "slow_median_ms": round(first.median_ms, 3),
            "others_median_ms": round(first.others_ms, 3),
            "slow_runs": runs,
        },
        cause=_cause(place, first, planned),
        cost_ms=sum(each.runs * (each.median_ms - each.others_ms) for each in mine),
    )


def _cause(place: str, first: SlowValue, planned: PlannedFor | None) -> Cause:
    if planned is None:
        return Cause(
            "value-unlike-others",
            message("value-unlike-others", ratio=first.ratio),
        )
    if not planned.differs:
        return Cause(
            "value-unlike-others",
            message(
                "value-unlike-others",
                ratio=first.ratio,
                rows=planned.slow_rows,
                other_rows=planned.other_rows,
            ),
        )
    return Cause(
        "value-with-many-rows",
        message(
            "value-with-many-rows",
            rows=planned.slow_rows,
            other_rows=planned.other_rows,
            way=planned.slow_way,
            other_way=None if planned.same_plan else planned.other_way,
        ),
    )
