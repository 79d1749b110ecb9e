"""A replay in the terminal: its parts, and each query before the change and with it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.entries import RemedyEntry, ReplayEntry
from humble_ledger.core.replays.model import Latency, Replay, Rhythm
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text

MOST_QUERIES = 12
_RHYTHMS = {
    Rhythm.CLOSED: "each sent its next statement when it had the answer to the last",
    Rhythm.CAPTURED: "statements were sent at the moments they were captured, session by session",
}


def replay_view(
    entry: ReplayEntry, remedies: Sequence[RemedyEntry], numbers: Numbers
) -> RenderableType:
    """A replay: what was sent, its throughput and latencies, errors, and each query."""
    replay = entry.replay
    if replay is None:
        return labelled(
            ("replay", f"{entry.id}, {entry.status}"),
            ("to be undone", "\n".join(entry.undoings)),
            ("next", "humble tidy" if entry.undoings or entry.status == "running" else ""),
        )
    parts: list[RenderableType] = [
        _heading(entry, replay, remedies, numbers),
        Text(""),
        _phases(replay, numbers),
    ]
    if len(replay.phases) > 1:
        parts += [Text(""), _compared(replay, numbers)]
    elif replay.phases:
        parts += [Text(""), _queries(replay, numbers)]
    parts += [Text("times measured on the clients, one connection each", style="bright_black")]
    return Group(*parts)


def _heading(
    entry: ReplayEntry, replay: Replay, remedies: Sequence[RemedyEntry], numbers: Numbers
) -> RenderableType:
    change = replay.change
    made = "; ".join(f"{r.id}, {r.remedy.summary}" for r in remedies)
    moment = ""
    if change is not None:
        took = numbers.figure(change.done_s - change.begun_s)
        moment = f"{made}; begun at {numbers.figure(change.begun_s)} s, made in {took} s"
    elif remedies:
        moment = f"{made}; the replay ended before it was made"
    passed = replay.queries_passed_over
    early = ", stopped early" if replay.stopped_early else ""
    return labelled(
        (
            "replay",
            f"{entry.id} on {entry.target}: {numbers.count(replay.clients, 'clients')} for "
            f"{numbers.figure(replay.seconds)} s{early}",
        ),
        ("rhythm", _RHYTHMS[replay.rhythm]),
        ("change", moment),
        (
            "sent late",
            f"by {numbers.ms(replay.late_ms)} at the median" if replay.late_ms is not None else "",
        ),
        (
            "not sent",
            f"{numbers.count(passed, 'queries')}: they change data, or no run has its values"
            if passed
            else "",
        ),
        (
            "errors",
            "\n".join(
                f"{numbers.count(count, 'times')}: {words}" for words, count in replay.errors
            ),
        ),
        ("left behind", "; ".join(replay.left_behind) or ("nothing" if remedies else "")),
    )


def _phases(replay: Replay, numbers: Numbers) -> RenderableType:
    table = plain_table(
        ("part", "fixed"), ("seconds", "right"), ("statements", "right"), ("errors", "right"),
        ("in a second", "right"), ("median", "right"), ("95 %", "right"), ("99 %", "right"),
        ("slowest", "right"),
    )  # fmt: skip
    for phase in replay.phases:
        found = phase.latency
        table.add_row(
            phase.name,
            f"{numbers.figure(phase.begun_s)}–{numbers.figure(phase.ended_s)}",
            numbers.whole(found.runs),
            numbers.whole(found.errors),
            numbers.figure(phase.per_second),
            *(_ms(ms, numbers) for ms in (found.p50_ms, found.p95_ms, found.p99_ms, found.max_ms)),
        )
    return table


def _compared(replay: Replay, numbers: Numbers) -> RenderableType:
    """Each query before the change and with it, those that changed most first."""
    before, after = dict(replay.phases[0].queries), dict(replay.phases[-1].queries)
    table = plain_table(
        ("query", "fixed"), ("runs before", "right"), ("with it", "right"),
        ("median before", "right"), ("with it", "right"), ("with/before", "right"),
        ("95 % before", "right"), ("with it", "right"),
    )  # fmt: skip
    names = sorted(set(before) | set(after), key=lambda q: -_moved(before.get(q), after.get(q)))
    for query in names[:MOST_QUERIES]:
        old, new = before.get(query), after.get(query)
        ratio = None
        if old is not None and new is not None and old.p50_ms and new.p50_ms:
            ratio = new.p50_ms / old.p50_ms
        table.add_row(
            query,
            numbers.whole(old.runs) if old else "0",
            numbers.whole(new.runs) if new else "0",
            *(_ms(each.p50_ms if each else None, numbers) for each in (old, new)),
            numbers.figure(ratio),
            *(_ms(each.p95_ms if each else None, numbers) for each in (old, new)),
        )
    more = len(names) - MOST_QUERIES
    return Group(table, *([Text(f"and {numbers.count(more, 'queries')} more")] if more > 0 else []))


def _queries(replay: Replay, numbers: Numbers) -> RenderableType:
    table = plain_table(
        ("query", "fixed"), ("runs", "right"), ("errors", "right"), ("median", "right"),
        ("95 %", "right"), ("99 %", "right"), ("slowest", "right"),
    )  # fmt: skip
    listed = replay.phases[0].queries
    for query, found in listed[:MOST_QUERIES]:
        table.add_row(
            query,
            numbers.whole(found.runs),
            numbers.whole(found.errors),
            *(_ms(ms, numbers) for ms in (found.p50_ms, found.p95_ms, found.p99_ms, found.max_ms)),
        )
    more = len(listed) - MOST_QUERIES
    return Group(table, *([Text(f"and {numbers.count(more, 'queries')} more")] if more > 0 else []))


def _moved(old: Latency | None, new: Latency | None) -> float:
    """By how many milliseconds the median moved; 0 where one side is unknown."""
    if old is None or new is None or old.p50_ms is None or new.p50_ms is None:
        return 0.0
    return abs(old.p50_ms - new.p50_ms)


def _ms(value: float | None, numbers: Numbers) -> str:
    return numbers.ms(value) if value is not None else "–"
