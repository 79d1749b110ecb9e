"""Parallel workers that were not there, bought little, or had nothing to do.

Told of measured plans only: an estimate knows neither how many came nor what they did.
"""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.plans.model import Node, Operation
from humble_ledger.core.plans.remarks import busiest_share
from humble_ledger.core.symptoms.case import WORTH_A_WORD, Case
from humble_ledger.core.symptoms.model import Cause, Symptom

LEAST_MS = 1.0  # that starting workers can cost
LEAST_GAIN = 1.2  # times faster than one process, or it bought little
SKEWED = 1.5  # times its fair part of the rows
IDLE = 0.6  # of the time of all processes was used, at most
FEWEST_ROWS = 10_000.0


def missing_workers(case: Case) -> Iterable[Symptom]:
    """`workers-not-launched`: fewer processes were launched than planned."""
    for node, workers in _gathers(case):
        planned = node.processes.planned if node.processes else 0
        if workers >= planned:
            continue
        below = [each.no for each in node.walk()]
        cost_ms, share = case.avoidable_of(below, 1.0 - (workers + 1) / (planned + 1))
        if share < WORTH_A_WORD:
            continue
        granted = case.costs.resources
        most = granted.most_workers
        yield Symptom(
            name="workers-not-launched",
            node=node.no,
            step=node.name,
            summary=message("workers-not-launched", launched=workers, planned=planned),
            evidence={"planned": planned, "launched": workers},
            cause=Cause(
                "no-worker-free",
                message(
                    "no-worker-free",
                    limit=most,
                    setting=granted.most_workers_setting,
                    processes=planned + 1,
                ),
            ),
            cost_ms=cost_ms,
            cost_share=share,
            covers=tuple(below),
        )


def idle_workers(case: Case) -> Iterable[Symptom]:
    """`parallel-overhead`: all processes together worked hardly longer than the clock ran."""
    for node, workers in _gathers(case):
        elapsed = case.accounts[node.no].total_ms or 0.0
        work = sum(
            (case.accounts[each.no].self_ms or 0.0) * case.accounts[each.no].processes
            for child in node.children
            for each in child.walk()
        )
        cost_ms, share = case.avoidable(node, 1.0)
        if not workers or elapsed < LEAST_MS or work > LEAST_GAIN * elapsed:
            continue
        if share < WORTH_A_WORD:
            continue
        rows = case.rows(node)
        yield Symptom(
            name="parallel-overhead",
            node=node.no,
            step=node.name,
            summary=message(
                "parallel-overhead", processes=workers + 1, work_ms=work, elapsed_ms=elapsed
            ),
            evidence={"process_ms": work, "elapsed_ms": elapsed, "rows_passed": rows},
            cause=Cause(
                "little-to-share",
                message("little-to-share", rows=rows, took_ms=cost_ms or 0.0, work_ms=work),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def uneven_workers(case: Case) -> Iterable[Symptom]:
    """`uneven-parallel-workers`: one process was at work while the others had nothing to do.

    Rows alone do not tell: processes that take page after page end together, however many
    each had. So the time of each is what counts.
    """
    for node in case.plan.nodes():
        part = busiest_share(node)
        if part is None or not node.loops or case.rows(node) < FEWEST_ROWS:
            continue
        processes = case.accounts[node.no].processes
        used = _part_of_time_used(case, node)
        if processes < 2 or part * processes < SKEWED or used is None or used > IDLE:
            continue
        cost_ms, share = case.avoidable(node, 1.0 - used)
        if share < WORTH_A_WORD:
            continue
        yield Symptom(
            name="uneven-parallel-workers",
            node=node.no,
            step=node.name,
            summary=message(
                "uneven-parallel-workers", processes=processes, share=part, rows=case.rows(node)
            ),
            evidence={"busiest_share": part, "processes": processes, "time_used_share": used},
            cause=Cause(
                "uneven-work",
                message("uneven-work", processes=processes, share=used),
            ),
            cost_ms=cost_ms,
            cost_share=share,
        )


def _part_of_time_used(case: Case, node: Node) -> float | None:
    """The time all processes worked at a step, of the longest one's times their number."""
    if node.processes is None or node.elapsed is None or not node.loops:
        return None
    whole = node.elapsed.total_ms * node.loops
    each = [worker.total_ms * worker.loops for worker in node.processes.each]
    longest = max(*each, whole - sum(each))
    return whole / (longest * case.accounts[node.no].processes) if longest > 0 else None


def _gathers(case: Case) -> Iterable[tuple[Node, float]]:
    """Each gathering step that ran, with the workers it had."""
    for node in case.plan.nodes():
        if node.operation is not Operation.GATHER or not node.loops or node.processes is None:
            continue
        if node.processes.launched is not None:
            yield node, float(node.processes.launched)
