"""Limits from what a plan and a trial of a statement show: as it is now, with some room to grow."""

from __future__ import annotations

import math

from humble_ledger.core.limits.judging import rows_read_per_row, spilling
from humble_ledger.core.limits.model import Allowed, TimeLimit
from humble_ledger.core.plans.model import Operation, Plan

ROOM = 2.0  # times what a plan takes now
MOST_READ_FOR_A_ROW = (
    100.0  # what reads more for each row is no point lookup, and has no such limit
)
USUAL_ERROR = 10.0  # the factor that estimates may be off at least
_SUMMING_UP = frozenset(
    (Operation.AGGREGATE, Operation.GROUP, Operation.DISTINCT, Operation.SET_OPERATION)
)


def proposed(plan: Plan, time_ms: float | None = None) -> Allowed:
    """Limits that the plan keeps today; ``time_ms`` makes one of time, as a ratio to it.

    Figures get twice the room. Tables that are read by an index only must stay so, and each index
    stays in use. Spills and errors are limited where a measured plan is free of them.
    """
    nodes = list(plan.nodes())
    scanned = {node.relation for node in nodes if node.operation is Operation.FULL_SCAN}
    by_index = {
        node.relation
        for node in nodes
        if node.relation and (node.index or node.operation is Operation.BITMAP_SCAN)
    } - scanned
    measured = plan.measured and plan.root.pages is not None
    return Allowed(
        cost=_rounded(ROOM * plan.cost_total) if plan.cost_total else None,
        pages=int(_rounded(max(8.0, ROOM * plan.root.pages.touched)))
        if measured and plan.root.pages is not None
        else None,
        rows_read_per_row=_read_per_row(plan),
        no_full_scan_of=tuple(sorted(by_index)),
        uses_index=tuple(sorted({node.index for node in nodes if node.index})),
        no_spill=plan.steps_measured and not spilling(plan),
        estimates_within=None,
        time=TimeLimit(at_most=ROOM, baseline_ms=float(f"{time_ms:.3g}")) if time_ms else None,
    )


def _read_per_row(plan: Plan) -> float | None:
    """Of statements that return the rows they look for, and do not sum them up."""
    if any(node.operation in _SUMMING_UP for node in plan.nodes()):
        return None
    found = rows_read_per_row(plan)
    if found is None or found > MOST_READ_FOR_A_ROW:
        return None
    return _rounded(max(ROOM, ROOM * found))


def _rounded(value: float) -> float:
    """Upwards to two telling digits, so that nobody takes it for a measurement."""
    size = 10.0 ** (math.floor(math.log10(value)) - 1) if value > 0 else 1.0
    found = math.ceil(value / size - 1e-9) * size
    return float(f"{found:.6g}")
