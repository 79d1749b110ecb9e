"""Queries that have become slower or faster, and new ones that weigh: the last capture against
those before it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from humble_ledger.core.audits.drift import FEWEST, Drift, Observed, drift
from humble_ledger.core.audits.findings import Finding, Kind
from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.messages import message
from humble_ledger.core.trials.model import Verdict
from humble_ledger.core.workload.durations import middle_of
from humble_ledger.ledger.drifting import SeenPeriod
from humble_ledger.workflow.workspace import Workspace

HEAVY = 0.05  # of the time of the last capture
_CHANGED = {Verdict.SLOWER: Kind.SLOWER, Verdict.FASTER: Kind.FASTER}


def drifted(workspace: Workspace, recent: int = 1) -> tuple[list[Finding], str]:
    """What changed since the captures before, the slower first; and why nothing can be told.

    The last ``recent`` captures are held together against all before them.
    """
    lately, before = _two_sides(workspace, recent)
    last = lately[-1] if lately else None
    if last is None:
        return [], "Nothing was captured yet, so no query can be held against its past."
    if not before:
        return [], (
            f"{last.id} is the first capture of kind {last.source}; capture once more to see what "
            "has become slower."
        )
    ledger = workspace.ledger
    later = ledger.drifting.periods([each.id for each in lately])
    earlier = ledger.drifting.periods([each.id for each in before])
    both = [query for query in later if query in earlier]
    found: list[Drift] = []
    for query in both:
        sides = _observed(earlier[query], last.source), _observed(later[query], last.source)
        each = drift(query, *_same_unit(earlier[query], later[query], *sides), len(both))
        if each is not None and each.verdict in _CHANGED:
            found.append(each)
    found.sort(key=lambda each: -each.ratio.estimate)
    span = before[0].id if len(before) == 1 else f"{before[0].id} to {before[-1].id}"
    findings = [_told(each, last, span) for each in found]
    findings += _new(later, set(earlier), last)
    return findings, ""


def _two_sides(workspace: Workspace, recent: int) -> tuple[list[CaptureEntry], list[CaptureEntry]]:
    """The last captures of the kind that was captured last, and those before them."""
    captures = [each for each in workspace.ledger.captures.all() if each.kept]
    alike = [each for each in captures if each.source == captures[-1].source]
    return alike[-recent:], alike[:-recent]


def since(
    workspace: Workspace, query: str, moment: str, earliest: str = "", compared: int = 1
) -> Drift | None:
    """How a query has drifted since a moment, against what was seen of it from the ``earliest`` on;
    None with too few observations on a side.
    """
    captures = [each for each in workspace.ledger.captures.all() if each.kept]
    if not captures:
        return None
    source = captures[-1].source
    earlier, later = workspace.ledger.drifting.around(query, source, moment, earliest)
    sides = _observed(earlier, source), _observed(later, source)
    return drift(query, *_same_unit(earlier, later, *sides), compared)


def _observed(periods: Sequence[SeenPeriod], source: str) -> Observed:
    timed = [each for each in periods if each.timed]
    unit = "looks" if source == "server" else "minutes"
    values = tuple(each.total_ms / each.timed for each in timed)
    return Observed(values, sum(each.timed for each in timed), unit)


def _same_unit(
    earlier: Sequence[SeenPeriod], later: Sequence[SeenPeriod], was: Observed, is_: Observed
) -> tuple[Observed, Observed]:
    """Minutes where there are enough of them on both sides, else single runs."""
    if min(len(was.values_ms), len(is_.values_ms)) >= FEWEST:
        return was, is_
    return _by_run(earlier, was), _by_run(later, is_)


def _by_run(periods: Sequence[SeenPeriod], whole: Observed) -> Observed:
    """The durations of single runs, as far as they were kept; else what there is."""
    values = [
        middle_of(bucket)
        for each in periods
        for bucket, count in sorted(each.durations.items())
        for _ in range(count)
    ]
    return Observed(tuple(values), len(values), "runs") if values else whole


def _told(found: Drift, last: CaptureEntry, span: str) -> Finding:
    old, new = found.medians_ms
    ratio = found.ratio
    words = message(
        "time-has-changed",
        now_ms=new,
        capture=last.id,
        runs=found.later.runs,
        spans=len(found.later.values_ms),
        unit=found.later.unit,
        before_ms=old,
        earlier=span,
        earlier_runs=found.earlier.runs,
        ratio=ratio.estimate,
        low=ratio.low,
        high=ratio.high,
    )
    assert found.verdict is not None
    kind = _CHANGED[found.verdict]
    next_ = f"humble diagnose {found.query} --measure" if kind is Kind.SLOWER else ""
    return Finding(kind, found.query, words, (last.id, span), next_)


def _new(
    later: dict[str, list[SeenPeriod]], known: set[str], last: CaptureEntry
) -> Iterator[Finding]:
    whole = sum(each.total_ms for periods in later.values() for each in periods) or 1.0
    for query, periods in later.items():
        took = sum(each.total_ms for each in periods)
        if query not in known and took >= HEAVY * whole:
            calls = sum(each.calls for each in periods)
            words = message(
                "first-seen", capture=last.id, took_ms=took, calls=calls, share=took / whole
            )
            yield Finding(Kind.NEW, query, words, (last.id,), f"humble diagnose {query}")
