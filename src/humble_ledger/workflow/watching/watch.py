"""The watch: look, capture, audit, tell what is new, wait; and take back what does not deliver."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from humble_ledger.core.audits.drift import FEWEST, Drift
from humble_ledger.core.audits.findings import Finding, Kind
from humble_ledger.core.audits.promises import BROKEN, PromiseToday
from humble_ledger.core.audits.watching import Look, Watched, WatchEvent, What
from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.messages import Message, Told, message
from humble_ledger.core.results.captures import LiveCapture
from humble_ledger.core.symptoms.in_workload.blocking import LEAST_WAIT_MS
from humble_ledger.core.trials.model import Verdict
from humble_ledger.core.workload.sampling import IDLE_IN_TRANSACTION
from humble_ledger.errors import HumbleError, WrongUsage
from humble_ledger.ledger.shelf import now
from humble_ledger.workflow.auditing.audit import audit
from humble_ledger.workflow.auditing.drifts import since
from humble_ledger.workflow.capturing.live import STOPPING, capture_live
from humble_ledger.workflow.capturing.logs import capture_logs
from humble_ledger.workflow.capturing.server import capture_server
from humble_ledger.workflow.settling.taking_back import require_takeable_back, take_back
from humble_ledger.workflow.workspace import Workspace

_SLOWER = Verdict.SLOWER
LIVE_PAUSE_MS = 200.0
LEAST_LIVE_S = 1.0  # also where the looks themselves take all the time


@dataclass(frozen=True, slots=True)
class Asked:
    """How to watch: every so many seconds, for so long (None: until Ctrl-C).

    ``logs`` are read on at each look, else the server's statistics; ``trial`` is a kept change that
    is taken back when it does not deliver. With ``live`` what runs is sampled between the looks.
    """

    every_s: float = 60.0
    for_s: float | None = None
    logs: tuple[Path, ...] = ()
    prefix: str | None = None
    trial: str = ""
    on_production: bool = False
    live: bool = False


def blocked_findings(found: LiveCapture) -> list[Finding]:
    """The queries that waited for locks of others while the server was sampled."""
    waited: dict[str, float] = {}
    holders: dict[str, list[str]] = {}
    for each in found.samples.blocked.values():
        query = found.queries.get(each.sql)
        if query is None or not each.blocked_by or each.waited_s * 1000.0 < LEAST_WAIT_MS:
            continue
        waited[query] = max(waited.get(query, 0.0), each.waited_s)
        for pid in each.blocked_by:
            holder = found.samples.blockers.get(pid)
            name = found.queries.get(holder.sql, "") if holder is not None else ""
            idle = holder is not None and holder.state.startswith(IDLE_IN_TRANSACTION)
            words = (name or f"process {pid}") + (", idle in its transaction" if idle else "")
            holders.setdefault(query, []).append(words)
    return [
        Finding(
            Kind.BLOCKED, query,
            f"waited up to {seconds:,.1f} s (sampled) for locks of "
            f"{'; '.join(dict.fromkeys(holders[query]))}",
            (found.entry.id,), "humble capture live --for 60s",
        )
        for query, seconds in sorted(waited.items())
    ]  # fmt: skip


def watch(workspace: Workspace, asked: Asked, tell: Callable[[WatchEvent], None]) -> Watched:
    """Watch until the time is over, Ctrl-C comes, or it was seen how it went without the change.

    What was said stays said over the end of a watch: the ledger keeps it.

    Raises:
        WrongUsage, RefusedForSafety: the change to be watched cannot be taken back.
    """
    if asked.trial:
        require_takeable_back(workspace, asked.trial, on_production=asked.on_production)
    if asked.live:
        workspace.session.activity()  # where nobody can look at sessions, that is said at once
    watcher = _Watcher(workspace, asked, tell)
    try:
        watcher.go()
    except KeyboardInterrupt:
        if asked.for_s is not None:
            raise
    return Watched(
        tuple(watcher.looks), tuple(watcher.events), asked.trial, watcher.taken_back_at_s
    )


@dataclass(slots=True)
class _Watcher:
    workspace: Workspace
    asked: Asked
    tell: Callable[[WatchEvent], None]
    looks: list[Look] = field(default_factory=list)
    events: list[WatchEvent] = field(default_factory=list)
    taken_back_at_s: float | None = None
    _begun: float = field(default_factory=time.monotonic)
    _before: float | None = None
    _away: bool = False
    _blocked: list[Finding] = field(default_factory=list)

    def go(self) -> None:
        self._say(What.BEGUN, f"watching {self.workspace.public_url}")
        while True:
            next_s = time.monotonic() + self.asked.every_s
            try:
                self._look()
                self._away = False
            except WrongUsage:
                raise  # it will be no better at the next look
            except HumbleError as error:
                if not self._away:
                    self._say(What.UNREACHABLE, error.message)
                self._away = True
                self.workspace.reconnect()
            if self._over():
                return
            self._wait_until(next_s)

    def _wait_until(self, next_s: float) -> None:
        """Wait for the next look, and sample what runs meanwhile, if that is asked for."""
        left = next_s - time.monotonic()
        if self.asked.live and not self._away:
            told: list[str] = []
            self._blocked = []
            with suppress(HumbleError):  # the next look tells that nobody answers
                found = capture_live(
                    self.workspace,
                    pause_ms=LIVE_PAUSE_MS,
                    seconds=max(left, LEAST_LIVE_S),
                    progress=told.append,
                )
                self._blocked = blocked_findings(found)
            if told and told[-1] == STOPPING:
                raise KeyboardInterrupt
        time.sleep(max(0.0, next_s - time.monotonic()))

    def _over(self) -> bool:
        asked, passed = self.asked, time.monotonic() - self._begun
        if self.taken_back_at_s is not None:
            after = [each for each in self.looks if each.at_s > self.taken_back_at_s]
            if len(after) >= FEWEST:
                return True  # long enough to see what came of it
        if asked.for_s is None or passed < asked.for_s:
            return False
        if asked.trial and self.taken_back_at_s is None:
            self._tell_outcome()
        return True

    def _look(self) -> None:
        moment = time.monotonic()
        entry = self._capture()
        self.looks.append(self._seen(entry, moment))
        self._before = moment
        found = audit(self.workspace, recent=FEWEST)
        findings = [*found.findings]
        findings += [
            Finding(
                Kind.PROMISE, f"{each.promise.trial} for {each.promise.query}", each.words,
                (each.promise.trial,), "humble audit",
            )
            for each in found.promises
            if each.standing in BROKEN
        ]  # fmt: skip
        self._compare([*findings, *self._blocked])
        if self.asked.trial and self.taken_back_at_s is None:
            self._judge(found.promises)

    def _capture(self) -> CaptureEntry:
        if self.asked.logs:
            return capture_logs(self.workspace, self.asked.logs, self.asked.prefix)
        return capture_server(self.workspace)

    def _seen(self, entry: CaptureEntry, moment: float) -> Look:
        at_s = moment - self._begun
        if self._before is None:
            return Look(at_s, None, None)  # the first has all that came before
        periods = self.workspace.ledger.drifting.periods([entry.id])
        calls = sum(each.calls for found in periods.values() for each in found)
        timed = sum(each.timed for found in periods.values() for each in found)
        took = sum(each.total_ms for found in periods.values() for each in found)
        return Look(at_s, calls / (moment - self._before), took / timed if timed else None)

    def _compare(self, findings: Sequence[Finding]) -> None:
        """Tell what is new and what is gone; the ledger keeps what was said."""
        ledger, place = self.workspace.ledger, f"watch {self.workspace.public_url}"
        said = set(ledger.said.of(place))
        here = {f"{each.kind}: {each.subject}": each for each in findings}
        for key, finding in here.items():
            if key not in said:
                self._say(
                    What.APPEARED,
                    message("of", subject=finding.subject, what=finding.words),
                    finding,
                )
        for key in sorted(said - here.keys()):
            self._say(What.GONE, f"{key} is no longer so")
        if said != here.keys():
            ledger.said.keep(place, sorted(here))

    def _judge(self, promises: Sequence[PromiseToday]) -> None:
        """Take the change back when it is clear that it does not deliver."""
        trial = self.asked.trial
        broken = [e for e in promises if e.standing in BROKEN and e.promise.trial == trial]
        slower = [found for _, found in self._drifts() if found and found.verdict is _SLOWER]
        if not broken and not slower:
            return
        short = [f"{each.promise.query} {each.standing}" for each in broken]
        short += [f"{each.query} slower" for each in slower]
        take_back(self.workspace, trial, f"watched, and taken back: {', '.join(short)}")
        self.taken_back_at_s = time.monotonic() - self._begun
        why = [message("of", subject=each.promise.query, what=each.words) for each in broken]
        why += [_changed(each) for each in slower]
        self._say(What.TAKEN_BACK, message("does-not-deliver", trial=trial, why=why), trial=trial)

    def _drifts(self) -> list[tuple[str, Drift | None]]:
        """Each query of the watched trial since it was kept, against what was seen before.

        What was seen before an earlier decision about the query is of another time.
        """
        trials = self.workspace.ledger.trials
        settled = trials.settlements(self.asked.trial)[0]
        entry = trials.get(self.asked.trial)
        assert entry.trial is not None
        queries = [each.query for each in entry.trial.queries]
        found = []
        for query in queries:
            others = [
                each.at
                for each in trials.settlements()
                if each.at < settled.at and self._is_about(each.trial, query)
            ]
            earliest = max(others, default="")
            drifted = since(self.workspace, query, settled.at, earliest, len(queries))
            found.append((query, drifted))
        return found

    def _is_about(self, trial: str, query: str) -> bool:
        tried = self.workspace.ledger.trials.get(trial).trial
        return tried is not None and any(each.query == query for each in tried.queries)

    def _tell_outcome(self) -> None:
        """What the watched change has brought since it was kept."""
        drifts = self._drifts()
        told = [
            message("seen-too-seldom", query=query) if found is None else _changed(found)
            for query, found in drifts
        ]
        better = any(found is not None and found.verdict is Verdict.FASTER for _, found in drifts)
        trial = self.asked.trial
        words = message("outcome-of-watch", trial=trial, delivers=better, told=told)
        self._say(What.DELIVERS if better else What.STAYS, words, trial=trial)

    def _say(
        self, what: What, words: Told, finding: Finding | None = None, trial: str = ""
    ) -> None:
        event = WatchEvent(now(), what, words, finding, trial)
        self.events.append(event)
        self.tell(event)


def _changed(found: Drift) -> Message:
    ratio = found.ratio
    return message(
        "slower-than-before-kept",
        query=found.query, times=ratio.estimate, low=ratio.low, high=ratio.high,
    )  # fmt: skip
