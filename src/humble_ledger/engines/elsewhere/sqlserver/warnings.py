"""What the server itself warns of, at a step or of the whole plan, in a sentence each."""

from __future__ import annotations

from collections.abc import Iterator
from xml.etree.ElementTree import Element

from humble_ledger.core.plans.model import IndexAdvice
from humble_ledger.engines.elsewhere.sqlserver.notation import column, noted
from humble_ledger.engines.elsewhere.sqlserver.xml import (
    bare,
    below,
    child,
    children,
    figure,
    flag,
    tag,
    within,
)

KIB = 1024
_PLACED = frozenset(
    """SpillToTempDb SortSpillDetails HashSpillDetails ColumnsWithNoStatistics
    PlanAffectingConvert MemoryGrantWarning Wait UnmatchedIndexes SpillOccurred
    ColumnsWithStaleStatistics""".split()
)
_FLAGS = {
    "NoJoinPredicate": "no join predicate",
    "SpatialGuess": "spatial estimate guessed",
    "FullUpdateForOnlineIndexBuild": "full update for an online index build",
}


def remarks(warnings: Element | None) -> Iterator[str]:
    """The warnings of one element, the server's own words kept where there are some."""
    if warnings is None:
        return
    for name, words in _FLAGS.items():
        if flag(warnings, name):
            yield words
    for each in warnings:
        yield from _remark(each)


def _remark(each: Element) -> Iterator[str]:
    kind = tag(each)
    if kind == "PlanAffectingConvert":
        issue = each.get("ConvertIssue", "")
        yield f"conversion affects the plan ({issue}): {noted(each.get('Expression', ''))}"
    elif kind in ("ColumnsWithNoStatistics", "ColumnsWithStaleStatistics"):
        names = ", ".join(column(one) for one in children(each, "ColumnReference"))
        yield f"{'no' if 'No' in kind else 'stale'} statistics of {names}"
    elif kind == "SpillToTempDb":
        level, threads = each.get("SpillLevel"), each.get("SpilledThreadCount")
        told = f"level {level}" if level else "a temporary file"
        yield f"spilled ({told})" + (f", {threads} threads" if threads else "")
    elif kind == "SpillOccurred":
        yield "spilled"
    elif kind == "MemoryGrantWarning":
        granted, used = figure(each, "GrantedMemory") or 0.0, figure(each, "MaxUsedMemory") or 0.0
        why = each.get("GrantWarningKind", "unusual")
        yield f"memory grant ({why}): {granted:,.0f} KiB granted, {used:,.0f} KiB used"
    elif kind == "Wait":
        yield f"waited {each.get('WaitTime', '?')} ms ({each.get('WaitType', '')})"
    elif kind == "UnmatchedIndexes":
        yield "filtered indexes could not be used, as the value was not known (unmatched)"
    elif kind not in _PLACED:
        told = ", ".join(f"{name} {value}" for name, value in each.attrib.items())
        yield f"{kind} {told}".strip()


def spilled_bytes(warnings: Element | None) -> int:
    """What a step wrote to temporary files, as far as the plan tells: pages of 8 KiB."""
    if warnings is None:
        return 0
    written = 0.0
    for each in warnings:
        if tag(each) in ("SortSpillDetails", "HashSpillDetails"):
            written += figure(each, "WritesToTempDb") or 0.0
    return round(written * 8 * KIB)


def spilled(warnings: Element | None) -> bool:
    """Whether a step says that it went through temporary files."""
    names = ("SpillToTempDb", "SpillOccurred", "SortSpillDetails", "HashSpillDetails")
    return warnings is not None and any(tag(each) in names for each in warnings)


def granted_bytes(warnings: Element | None) -> int | None:
    """The memory that a step which spilled had, where it tells."""
    for each in within(warnings, "SortSpillDetails"):
        known = figure(each, "UsedMemoryKb")
        if known:
            return round(known * KIB)
    for each in within(warnings, "HashSpillDetails"):
        known = figure(each, "UsedMemoryKb")
        if known:
            return round(known * KIB)
    return None


def of_plan(plan: Element) -> Iterator[str]:
    """What the plan as a whole says: warnings, memory, waits, values of parameters."""
    yield from remarks(child(plan, "Warnings"))
    grant = child(plan, "MemoryGrantInfo")
    granted, used = figure(grant, "GrantedMemory"), figure(grant, "MaxUsedMemory")
    if granted:
        told = "" if used is None else f", {used:,.0f} KiB used"
        yield f"memory: {granted:,.0f} KiB granted{told}"
    waited = figure(grant, "GrantWaitTime")
    if waited:
        yield f"waited {waited:,.0f} s for its memory grant"
    waits = children(child(plan, "WaitStats"), "Wait")
    for each in sorted(waits, key=lambda w: -(figure(w, "WaitTimeMs") or 0.0))[:5]:
        took, count = figure(each, "WaitTimeMs") or 0.0, figure(each, "WaitCount") or 0.0
        yield f"waits: {each.get('WaitType', '')} {took:,.0f} ms in {count:,.0f}"
    for each in children(child(plan, "ParameterList"), "ColumnReference"):
        yield from _parameter(each)
    reason = plan.get("NonParallelPlanReason")
    if reason:
        yield f"not parallel: {reason}"


def _parameter(each: Element) -> Iterator[str]:
    compiled, run = each.get("ParameterCompiledValue"), each.get("ParameterRuntimeValue")
    name = each.get("Column", "")
    if compiled is not None and run is not None and compiled != run:
        yield f"{name}: planned for {compiled}, run with {run}"
    elif compiled is not None:
        yield f"{name}: planned for {compiled}"
    elif run is not None:
        yield f"{name}: run with {run}"


def advice(plan: Element) -> Iterator[IndexAdvice]:
    """The indexes that the server calls missing, with the part of the cost that it says."""
    for group in children(child(plan, "MissingIndexes"), "MissingIndexGroup"):
        impact = figure(group, "Impact")
        for each in children(group, "MissingIndex"):
            named: dict[str, list[str]] = {}
            for columns in children(each, "ColumnGroup"):
                names = [bare(one.get("Name")) for one in children(columns, "Column")]
                named.setdefault(columns.get("Usage", ""), []).extend(names)
            yield IndexAdvice(
                bare(each.get("Table")),
                bare(each.get("Schema")),
                equal=tuple(named.get("EQUALITY", ())),
                ranges=tuple(named.get("INEQUALITY", ())),
                included=tuple(named.get("INCLUDE", ())),
                gain_share=None if impact is None else round(impact / 100, 6),
            )


def statistics_used(plan: Element) -> Iterator[str]:
    """The statistics that the planner looked at, with how many rows changed since."""
    for each in children(below(plan, "OptimizerStatsUsage"), "StatisticsInfo"):
        changed = figure(each, "ModificationCount")
        sampled = figure(each, "SamplingPercent")
        told = [f"updated {each.get('LastUpdate', 'at an unknown time')[:19]}"]
        if changed is not None:
            told.append(f"{changed:,.0f} rows changed since")
        if sampled is not None:
            told.append(f"{sampled:.3g} % sampled")
        yield f"{bare(each.get('Table'))}.{bare(each.get('Statistics'))}: {', '.join(told)}"
