"""Sorts that do not fit into memory and go through temporary files."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.symptoms.model import Case, Cause, Symptom

# A row in a sort's memory: its bytes, a header (24) and the sort's own entry (24).
ROW_OVERHEAD_BYTES = 48
MIB = 1024 * 1024


def sort_spills(case: Case) -> Iterable[Symptom]:
    """`sort-spills`: measured, or expected when the plan was not run."""
    limit = case.server.setting("work_mem", 4.0 * MIB)
    for node in case.plan.nodes():
        if node.operation not in (Operation.SORT, Operation.INCREMENTAL_SORT) or node.never_ran:
            continue
        spilled = node.memory.spilled_bytes if node.memory else 0
        needed = _needed(node)
        if case.plan.measured and not spilled:
            continue
        if not case.plan.measured and (needed <= limit or _needs_little(case, node)):
            continue
        cost_ms, cost_share = case.avoidable(node, 1.0)
        what = (
            f"sorts {node.rows_seen:,.0f} rows through {spilled / MIB:,.1f} MiB of temporary files"
            if case.plan.measured
            else f"will sort {node.rows_expected:,.0f} rows, more than fit into memory"
        )
        yield Symptom(
            name="sort-spills",
            node=node.no,
            step=node.name,
            summary=what,
            evidence={
                "spilled_bytes": spilled,
                "memory_limit_bytes": limit,
                "memory_needed_bytes_estimated": needed,
                "rows_sorted": node.rows_seen,
                "sort_keys": ", ".join(node.sort_keys),
            },
            cause=Cause(
                "memory-too-small",
                f"the sort may use {limit / MIB:,.0f} MiB (work_mem); about "
                f"{needed / MIB:,.0f} MiB would hold it (estimated)",
            ),
            cost_ms=cost_ms,
            cost_share=cost_share,
        )


def _needs_little(case: Case, node: Node) -> bool:
    """Sorting in groups, or keeping only the first few for a limit, takes little memory."""
    if node.operation is Operation.INCREMENTAL_SORT:
        return True
    limits = (n for n in case.plan.nodes() if n.operation is Operation.LIMIT)
    return any(child is node for limit in limits for child in limit.children)


def _needed(node: Node) -> float:
    rows = node.rows_seen if node.rows_seen is not None else node.rows_expected
    return (rows or 0.0) * ((node.row_width_bytes or 0) + ROW_OVERHEAD_BYTES)
