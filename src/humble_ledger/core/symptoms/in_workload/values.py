"""`slow-for-some-values`: one statement that behaves differently by the values it is sent with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

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
    told = ", ".join(str(each.value) for each in mine[:MOST_TOLD])
    told += f" and {len(mine) - MOST_TOLD} more" if len(mine) > MOST_TOLD else ""
    runs = sum(each.runs for each in mine)
    return Symptom(
        name=SLOW_FOR_SOME,
        node=0,
        step="",
        summary=(
            f"with {place} = {told} it took {first.median_ms:,.1f} ms, with others "
            f"{first.others_ms:,.1f} ms (medians; {runs:,} runs of the former were kept)"
        ),
        evidence={
            "place": place,
            "values": told,
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
            f"{first.ratio:,.0f} times as long; why, the plans of both would show",
        )
    if not planned.differs:
        return Cause(
            "value-unlike-others",
            f"{first.ratio:,.0f} times as long, although the planner expects about as many rows "
            f"of both ({planned.slow_rows:,.0f} and {planned.other_rows:,.0f})",
        )
    rows = (
        f"the planner expects {planned.slow_rows:,.0f} rows to be read with it, "
        f"{planned.other_rows:,.0f} with another"
    )
    if planned.same_plan:
        return Cause(
            "value-with-many-rows",
            f"{rows}, and runs both the same way ({planned.slow_way}): one plan cannot serve all",
        )
    return Cause(
        "value-with-many-rows",
        f"{rows}: it runs as {planned.slow_way}, with another as {planned.other_way}; a plan "
        "prepared once for all values would be wrong for one of them",
    )
