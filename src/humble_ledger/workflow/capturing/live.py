"""Capturing what runs now: the server's sessions looked at again and again."""

from __future__ import annotations

import time
from collections.abc import Mapping

from humble_ledger.core.messages import message
from humble_ledger.core.results.captures import LiveCapture
from humble_ledger.core.statements.fingerprint import Normalised, normalise
from humble_ledger.core.statements.kinds import StatementKind, kind_of, shorten
from humble_ledger.core.statements.masking import masked
from humble_ledger.core.statements.wording import cut
from humble_ledger.core.symptoms.in_workload.blocking import (
    Blockade,
    blocked_symptom,
    blocking_symptom,
)
from humble_ledger.core.workload.gathering import Groups, Harvest, Period, RunSeen
from humble_ledger.core.workload.sampling import (
    IDLE_IN_TRANSACTION,
    Samples,
    StatementSeen,
    blocker_tree,
)
from humble_ledger.core.workload.usage import Usage
from humble_ledger.ledger.captures import CaptureTally
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace

TRUNCATED = "statement cut short by the server (track_activity_query_size)"
HIDDEN = "<insufficient privilege>"
STOPPING = "stopping"


def capture_live(
    workspace: Workspace,
    *,
    pause_ms: float,
    seconds: float | None,
    mask: bool = False,
    progress: Progress = lambda _: None,
) -> LiveCapture:
    """Sample what runs, every ``pause_ms``, for so many seconds or until Ctrl-C.

    Ctrl-C is the usual way to end it, and no failure: what was seen is kept and given.

    Raises:
        TargetUnreachable: the server does not answer at the first look.
    """
    mask = mask or workspace.configuration.mask
    samples = Samples(pause_ms)
    session = workspace.session
    samples.look(session.activity())
    end = None if seconds is None else time.monotonic() + seconds
    next_look = time.monotonic()
    try:
        while end is None or time.monotonic() < end:
            _tell(samples, progress)
            # A look that took long is not made up for by looking twice.
            next_look = max(next_look + pause_ms / 1000.0, time.monotonic())
            time.sleep(max(next_look - time.monotonic(), 0.0))
            samples.look(session.activity())
    except KeyboardInterrupt:
        progress(STOPPING)
    return _keep(workspace, samples, mask)


def _tell(samples: Samples, progress: Progress) -> None:
    running = [s for s in samples.statements.values() if s.samples]
    longest = max(running, key=lambda s: s.lasted_ms, default=None)
    words = f"{samples.looks:,} looks, {len(running):,} statements seen"
    if samples.blocked:
        words += f", {len(samples.blocked):,} sessions blocked"
    if longest is not None:
        words += f"; longest {longest.lasted_ms / 1000:,.1f} s: {shorten(longest.sql, 60)}"
    progress(f"{words}  (Ctrl-C ends)")


def _keep(workspace: Workspace, samples: Samples, mask: bool) -> LiveCapture:
    desk = _Desk(workspace, samples, mask)
    for seen in samples.statements.values():
        desk.add(seen)
    writer = workspace.ledger.captures.begin("live", workspace.target.name or workspace.public_url)
    note = message(
        "looked-at-sessions",
        looks=samples.looks,
        seconds=samples.seconds,
        pause_ms=samples.sample_ms,
    )
    tally = CaptureTally(passed_over=desk.passed_over, notes=(note,))
    writer.keep(Harvest(desk.groups.all, desk.periods, desk.runs), tally=tally)
    writer.keep_waits(
        [(g, kind, event, n, n * samples.sample_ms) for (g, kind, event), n in desk.waits.items()]
    )
    entry = writer.finish(tally)
    ids = {sql: writer.query(group) for sql, group in desk.group_of.items()}
    _keep_blockades(workspace, entry.id, samples, ids, mask)
    if mask:
        samples = samples.with_texts(masked)
        ids = {masked(sql): id_ for sql, id_ in ids.items()}
    return LiveCapture(entry, samples, blocker_tree(samples), ids)


def _keep_blockades(
    workspace: Workspace, capture: str, samples: Samples, ids: Mapping[str, str], mask: bool
) -> None:
    """Keep the symptoms of who waited for whom, of each query that has an id."""
    blocked: dict[str, list[Blockade]] = {}
    blocking: dict[str, list[Blockade]] = {}
    for each in samples.blocked.values():
        for pid in each.blocked_by:
            holder = samples.blockers.get(pid)
            sql = holder.sql if holder is not None else ""
            names = [ids.get(text) or _beginning(text, mask) for text in (each.sql, sql)]
            idle = holder is not None and holder.state.startswith(IDLE_IN_TRANSACTION)
            blockade = Blockade(names[0], names[1], each.waited_s * 1000.0, each.wait_event, idle)
            if each.sql in ids:
                blocked.setdefault(ids[each.sql], []).append(blockade)
            if sql in ids:
                blocking.setdefault(ids[sql], []).append(blockade)
    shelf = workspace.ledger.symptoms
    for seen, judge in ((blocked, blocked_symptom), (blocking, blocking_symptom)):
        for query, blockades in seen.items():
            found = judge(blockades)
            if found is not None:
                shelf.keep_of_workload(capture, query, [found])


def _beginning(sql: str, mask: bool) -> str:
    text = shorten(masked(sql) if mask else sql, 60)
    return f'"{text}"' if text else "a session whose statement is hidden"


class _Desk:
    """Sorts what was seen into groups, periods, runs and waits."""

    def __init__(self, workspace: Workspace, samples: Samples, mask: bool) -> None:
        self.groups = Groups()
        self.periods: list[Period] = []
        self.runs: list[RunSeen] = []
        self.waits: dict[tuple[int, str, str], int] = {}
        self.passed_over: dict[str, int] = {}
        self.group_of: dict[str, int] = {}
        self._workspace = workspace
        self._sample_ms = samples.sample_ms
        self._mask = mask
        settings = workspace.session.server.settings
        # The server keeps one byte less than its setting says.
        self._cut_at = int(settings.get("track_activity_query_size", 1024)) - 1

    def add(self, seen: StatementSeen) -> None:
        """One execution that was seen."""
        group = self._group(seen)
        if group is None:
            return
        self.group_of[seen.sql] = group
        sql = (masked(seen.sql) if self._mask else seen.sql).strip()
        wording, literals = cut(sql) or (sql, [])
        # It lasted at least as long as it was seen to, and about as long as it was seen.
        ms = max(seen.lasted_ms, seen.samples * self._sample_ms)
        client = (seen.user, seen.database, seen.application)
        began = seen.began.timestamp()
        self.periods.append(Period(group, client, Usage.of_runs([ms]), began, began))
        if len(seen.sql.encode()) < self._cut_at:
            self.runs.append(
                RunSeen(group, wording, literals, (), client, str(seen.pid), began, ms)
            )
        for (kind, event), count in seen.waits.items():
            self.waits[group, kind, event] = self.waits.get((group, kind, event), 0) + count

    def _group(self, seen: StatementSeen) -> int | None:
        """The group of a statement; None when it is passed over, which is counted."""
        reason = TRUNCATED
        if seen.sql == HIDDEN:
            reason = "statement of another user, hidden from ours"
        elif kind_of(seen.sql) is StatementKind.NO_PLAN:
            reason = "statement without a plan"
        elif len(seen.sql.encode()) < self._cut_at:
            sql = seen.sql.strip()
            return self.groups.of(sql, sql)
        elif (whole := self._known_beginning_with(seen.sql)) is not None:
            return self.groups.add(whole)
        self.passed_over[reason] = self.passed_over.get(reason, 0) + 1
        return None

    def _known_beginning_with(self, sql: str) -> Normalised | None:
        """The one query of the ledger that a statement cut short is the beginning of."""
        # The last word may be cut, and with it the text that stands for it.
        start = normalise(sql[: max(sql.rstrip().rfind(" "), 1)]).text
        known = self._workspace.ledger.queries.beginning_with(start)
        return known[0] if len(known) == 1 else None
