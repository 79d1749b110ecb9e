"""Steps that do not fit into their memory and go through temporary files.

`sort-spills`, `hash-spills` (of joins and of groups), and `materialize-spills` for all else.
"""

from __future__ import annotations

from collections.abc import Iterable
from math import isinf

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.plans.paths import path_to, through_gathers
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.in_plans.ordering import spared_by_index
from humble_ledger.core.symptoms.model import Cause, Symptom

# A row in a sort's memory: its bytes, a header (24) and the sort's own entry (24).
ROW_OVERHEAD_BYTES = 48


def sort_spills(case: Case) -> Iterable[Symptom]:
    """`sort-spills`: measured, or expected when the plan was not run."""
    limit = case.memory_bytes
    for node in case.plan.nodes():
        if node.operation not in (Operation.SORT, Operation.INCREMENTAL_SORT) or node.never_ran:
            continue
        spilled = node.memory.spilled_bytes if node.memory else 0
        needed = _needed(node)
        if case.plan.steps_measured and not spilled:
            continue
        if not case.plan.steps_measured and (needed <= limit or _needs_little(case, node)):
            continue
        cost_ms, cost_share = case.avoidable(node, 1.0)
        yield Symptom(
            name="sort-spills",
            node=node.no,
            step=node.name,
            summary=(
                message("sort-spills", rows=_sorted_rows(node), spilled_bytes=spilled)
                if case.plan.steps_measured
                else message("sort-will-spill", rows=node.rows_expected)
            ),
            evidence={
                "spilled_bytes": spilled,
                "memory_limit_bytes": _known(limit),
                "memory_needed_bytes_estimated": needed,
                "rows_sorted": _sorted_rows(node),
                "sort_keys": ", ".join(node.sort_keys),
            },
            cause=Cause(
                "memory-too-small",
                message(
                    "memory-of-sort",
                    limit_bytes=_known(limit),
                    setting=case.memory_setting,
                    needed_bytes=needed,
                    instead=spared_by_index(case, node),
                ),
            ),
            cost_ms=cost_ms,
            cost_share=cost_share,
        )


# A row in a hash table: two headers of 16 bytes and a pointer (ExecChooseHashTableSize in
# PostgreSQL's nodeHash.c).
HASH_ROW_OVERHEAD_BYTES = 40
FEWEST_TEMP_PAGES = 128
_HASHED = (Operation.HASH, Operation.AGGREGATE, Operation.DISTINCT, Operation.SET_OPERATION)
_TOLD_APART = (*_HASHED, Operation.SORT, Operation.INCREMENTAL_SORT, Operation.HASH_JOIN)


def hash_spills(case: Case) -> Iterable[Symptom]:
    """`hash-spills`: only a measured plan tells in how many parts a hash was worked off."""
    limit = case.hash_memory_bytes
    for node in case.plan.nodes():
        memory = node.memory
        if node.operation not in _HASHED or memory is None or not node.loops:
            continue
        batches = memory.batches or 1
        if batches <= 1:
            continue
        # A join hashes one side and writes the other beside it; groups are hashed in place.
        join = path_to(case.plan.root, node)[-2:-1] if node.operation is Operation.HASH else []
        covers = [node.no, *(above.no for above in join)]
        cost_ms, share = case.avoidable_of(covers, 1.0 - 1.0 / batches)
        if share < WORTH_A_WORD:
            continue
        # Unless they share it, each process hashes all of it for itself.
        rows = case.rows(node) if node.parallel_aware else (node.rows_seen or 0.0)
        needed = rows * ((node.row_width_bytes or 0) + HASH_ROW_OVERHEAD_BYTES)
        expected = memory.planned_batches or batches
        yield Symptom(
            name="hash-spills",
            node=node.no,
            step=node.name,
            summary=message(
                "hash-spills",
                joins=node.operation is Operation.HASH,
                rows=rows,
                batches=batches,
                expected=expected,
            ),
            evidence={
                "batches": batches,
                "batches_expected": expected,
                "memory_limit_bytes": _known(limit),
                "memory_needed_bytes_estimated": needed,
                "rows_hashed": rows,
            },
            cause=Cause(
                "memory-too-small",
                message(
                    "memory-of-hash",
                    limit_bytes=_known(limit),
                    setting=case.hash_memory_setting,
                    needed_bytes=needed,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(covers),
        )


def rows_on_disk(case: Case) -> Iterable[Symptom]:
    """`materialize-spills`: rows kept to be read again, in temporary files."""
    limit = case.memory_bytes
    for node in case.plan.nodes():
        pages = case.accounts[node.no].self_pages
        if node.operation in _TOLD_APART or pages is None or not node.loops:
            continue
        if pages.temp_written < FEWEST_TEMP_PAGES:
            continue
        cost_ms, share = case.avoidable(node, 1.0)
        if share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="materialize-spills",
            node=node.no,
            step=node.name,
            summary=message(
                "materialize-spills", rows=case.rows(node), written_bytes=pages.temp_written * 8192
            ),
            evidence={
                "temp_pages_written": pages.temp_written,
                "temp_pages_read": pages.temp_read,
                "memory_limit_bytes": _known(limit),
            },
            cause=Cause(
                "memory-too-small",
                message(
                    "memory-of-kept-rows", limit_bytes=_known(limit), setting=case.memory_setting
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def _known(limit: float) -> float | None:
    return None if isinf(limit) else limit


def _needs_little(case: Case, node: Node) -> bool:
    """Sorting in groups, or keeping only the first few for a limit, takes little memory."""
    if node.operation is Operation.INCREMENTAL_SORT:
        return True
    limits = (n for n in case.plan.nodes() if n.operation is Operation.LIMIT)
    # Where processes sort for one another, each keeps no more than are wanted.
    return any(through_gathers(child) is node for limit in limits for child in limit.children)


def _sorted_rows(node: Node) -> float | None:
    """The rows of one sort: all that came to it, of which a step above may take the first few."""
    if not node.loops:
        return node.rows_expected
    came = node.inputs[0].rows_seen if len(node.inputs) == 1 else None
    if node.operation is Operation.INCREMENTAL_SORT or came is None:
        return node.rows_seen  # group by group
    return max(came, node.rows_seen or 0.0)


def _needed(node: Node) -> float:
    return (_sorted_rows(node) or 0.0) * ((node.row_width_bytes or 0) + ROW_OVERHEAD_BYTES)
