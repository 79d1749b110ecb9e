"""What a step did when it ran: counted by each of its threads."""

from __future__ import annotations

from dataclasses import dataclass
from xml.etree.ElementTree import Element

from humble_ledger.core.plans.model import Pages, Worker
from humble_ledger.engines.elsewhere.sqlserver.xml import child, children, figure


@dataclass(frozen=True, slots=True)
class Counters:
    """All threads together; ``ms`` is what the slowest took, None where no time was kept.

    ``threads`` are those that ran at all, ``each`` what every one of them did. ``batch`` tells
    that rows went in batches: then ``ms`` is of the step by itself, else with all below it.
    """

    rows: float
    executions: float
    rows_read: float | None
    ms: float | None
    processor_ms: float | None
    pages: Pages | None
    threads: int
    each: tuple[Worker, ...]
    batch: bool


def counters(relop: Element) -> Counters | None:
    """The counters of a step; None in a plan that was only estimated."""
    told = children(child(relop, "RunTimeInformation"), "RunTimeCountersPerThread")
    if not told:
        return None
    ran = [each for each in told if (figure(each, "ActualExecutions") or 0.0) > 0]
    # Thread 0 of a parallel step only waits for the others.
    at_work = [each for each in ran if each.get("Thread") != "0"] or ran
    pages = None
    if any(each.get("ActualLogicalReads") is not None for each in told):
        read = _sum(told, "ActualPhysicalReads") + _sum(told, "ActualReadAheads")
        logical = _sum(told, "ActualLogicalReads")
        pages = Pages(cached=round(max(0.0, logical - read)), read=round(min(read, logical)))
    return Counters(
        rows=_sum(told, "ActualRows"),
        executions=_sum(told, "ActualExecutions"),
        rows_read=_known(told, "ActualRowsRead"),
        ms=_longest(told),
        processor_ms=_known(told, "ActualCPUms"),
        pages=pages,
        threads=max(1, len(at_work)),
        each=tuple(_worker(each) for each in at_work) if len(at_work) > 1 else (),
        batch=any(each.get("ActualExecutionMode") == "Batch" for each in told),
    )


def _worker(told: Element) -> Worker:
    loops = figure(told, "ActualExecutions") or 1.0
    rows, took = figure(told, "ActualRows") or 0.0, figure(told, "ActualElapsedms") or 0.0
    return Worker(rows / loops, loops, took / loops)


def _sum(told: list[Element], name: str) -> float:
    return sum(figure(each, name) or 0.0 for each in told)


def _known(told: list[Element], name: str) -> float | None:
    known = [found for each in told if (found := figure(each, name)) is not None]
    return sum(known) if known else None


def _longest(told: list[Element]) -> float | None:
    known = [found for each in told if (found := figure(each, "ActualElapsedms")) is not None]
    return max(known) if known else None
