"""The replay: clients send captured statements for a while, and somewhere a change is made."""

from __future__ import annotations

import statistics
import threading
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace

from humble_ledger.core.entries import RemedyEntry, ReplayEntry
from humble_ledger.core.remedies.asked import Written
from humble_ledger.core.replays.model import CapturedRun, ChangeWindow, Replay, Rhythm, Sent
from humble_ledger.core.replays.scheduling import Due, by_session, closed_loop
from humble_ledger.core.replays.summing import by_second, errors, phases
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.core.statements.side_effects import is_allowed, refuse_run
from humble_ledger.core.statements.wording import cut
from humble_ledger.engines.contract import Client
from humble_ledger.errors import (
    HumbleError,
    RefusedForSafety,
    StatementRejected,
    TargetUnreachable,
    WrongUsage,
)
from humble_ledger.workflow.configuration import TargetRole
from humble_ledger.workflow.processes import this_process
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.replaying.changing import MidwayChange, make, midway_change, unmake
from humble_ledger.workflow.replaying.clients import Clock, Player, end
from humble_ledger.workflow.trying.wanted import wanted_remedies
from humble_ledger.workflow.workspace import Workspace

MOST_RUNS = 50_000
CLIENTS = 4
SECONDS = 30.0
LOOK_S = 0.2
_SYNTAX_ERROR = "42601"
_NOT_READ = "No captured run can be sent: the server cannot read any of them."


@dataclass(frozen=True, slots=True)
class Asked:
    """How a replay should go: who sends how much, for how long, and when the change comes.

    ``change_at_s`` None means in the middle. ``speed`` is that of the captured rhythm, ``seed``
    that of the draw of a closed loop.
    """

    rhythm: Rhythm = Rhythm.CLOSED
    clients: int = CLIENTS
    seconds: float = SECONDS
    speed: float = 1.0
    change_at_s: float | None = None
    seed: int = 1
    allow_writes: bool = False
    on_production: bool = False


def replay(
    workspace: Workspace,
    queries: Sequence[str],
    asked: Asked,
    *,
    remedies: Sequence[str] = (),
    indexes: Sequence[str] = (),
    written: Written = Written(),  # noqa: B008
    progress: Progress = lambda _: None,
    announce: Progress = lambda _: None,
) -> ReplayEntry:
    """Send captured statements again, of some queries or of all; the replay is kept.

    With remedies or changes as text these are made for all sessions in the middle, and taken
    back at the end. Ctrl-C ends it early; what was seen until then is kept.

    Raises:
        WrongUsage: nothing was captured that can be sent, or a change cannot be made here.
        RefusedForSafety: the target is a production server and nobody said it is meant.
    """
    production = workspace.target.role is TargetRole.PRODUCTION
    if production and not asked.on_production:
        raise RefusedForSafety(
            "The target is a production server; a replay is a load that its users would feel.",
            "Replay against a copy: name one with --target. If it is meant, say  --on-production",
        )
    for query in queries:
        workspace.ledger.require(query)
    runs, passed_over = _playable(workspace, queries, asked)
    entries = wanted_remedies(workspace, remedies, indexes, written)
    _refuse_unfitting(asked, entries)
    sendable = _sendable(workspace, runs, asked, named=bool(queries))
    passed_over += len({r.query for r in runs} - {r.query for r in sendable.runs})
    runs = sendable.runs
    if not runs:
        raise RefusedForSafety(
            f"No captured run can be sent: {sendable.told[0]}" if sendable.told else _NOT_READ,
            "Name queries to be asked about each:  humble replay q3",
        )
    for entry in entries:
        for text in entry.remedy.apply:
            found = workspace.session.side_effects(Statement(text))
            refuse_run(found, workspace.limits.may_call)
    for words in sendable.told:
        announce(words)
    midway_change(workspace, entries, "", production=production)  # refused before anything runs
    if production:
        announce(
            f"On {workspace.public_url}: {asked.clients} clients for {asked.seconds:g} s"
            + (
                f"; makes {', '.join(e.remedy.summary for e in entries)} and takes it back"
                if entries
                else ""
            )
        )
    with _recorded(workspace) as record:
        change = midway_change(workspace, entries, record.mark, production=production)
        run = _Run(workspace, record, asked, runs, change if entries else None, progress)
        played = run.played()
        record.result = replace(
            played, remedies=tuple(e.id for e in entries), queries_passed_over=passed_over
        )
    return workspace.ledger.replays.get(record.id)


@dataclass(frozen=True, slots=True)
class _Sendable:
    """The runs that may be sent, and in words what was left out and what will be called."""

    runs: list[CapturedRun]
    told: tuple[str, ...]


def _sendable(
    workspace: Workspace, runs: Sequence[CapturedRun], asked: Asked, *, named: bool
) -> _Sendable:
    """The runs that act on nothing but the database, as far as the catalogue tells.

    Of queries that were ``named`` none is left out without a word of the user's.

    Raises:
        RefusedForSafety: one of them calls what was not allowed by name.
    """
    session, may_call = workspace.session, workspace.limits.may_call
    calls: dict[str, None] = {}
    left_out: dict[str, str] = {}
    judged: dict[str, bool] = {}
    able = []
    for run in runs:
        sql = run.statement.sql
        wording = (cut(sql) or (sql,))[0]
        if wording not in judged:
            writes = asked.allow_writes and kind_of(sql) is StatementKind.CHANGES
            try:
                session.require_run(run.statement, writes=writes)
                judged[wording] = True
            except RefusedForSafety as error:
                if named:
                    raise
                judged[wording], left_out[run.query] = False, error.message
            except StatementRejected as error:
                # What the server cannot even read is not sent; any other fault is one to count.
                judged[wording] = error.sqlstate != _SYNTAX_ERROR
            found = session.side_effects(run.statement, writes=writes)
            calls |= {each.name: None for each in found if is_allowed(each, may_call)}
        if judged[wording]:
            able.append(run)
    told = [f"{query} is left out: {why}" for query, why in left_out.items()]
    if calls:
        told.append(
            f"{', '.join(calls)}: called as often as its statements are sent; what it does outside "
            "of its transaction is not undone."
        )
    return _Sendable(able, tuple(told))


def _refuse_unfitting(asked: Asked, entries: Sequence[RemedyEntry]) -> None:
    if asked.change_at_s is None:
        return
    if not entries:
        raise WrongUsage(
            "--change-at tells when a change comes, and none was named.",
            "Name one with --remedy, --index, --set, or --apply with --revert.",
        )
    if asked.change_at_s >= asked.seconds:
        raise WrongUsage(
            f"The change would come at {asked.change_at_s:g} s, when the replay is over "
            f"({asked.seconds:g} s).",
            "Let it go on longer with --seconds, or the change come earlier.",
        )


@dataclass(slots=True)
class _Record:
    id: str
    mark: str
    result: Replay | None = None


@contextmanager
def _recorded(workspace: Workspace) -> Iterator[_Record]:
    """A replay in the ledger from before its first act to after its last; its change undone."""
    replays = workspace.ledger.replays
    record = _Record(*replays.begin(workspace.public_url, workspace.ledger.uid, this_process()))
    try:
        yield record
    except (HumbleError, KeyboardInterrupt):
        _undone(workspace, record)
        replays.end(record.id, "broken-off", None)
        raise
    left = _undone(workspace, record)
    assert record.result is not None
    result = replace(record.result, left_behind=tuple(map(workspace.kept_words, left)))
    replays.end(record.id, "stopped" if result.stopped_early else "done", result)


def _undone(workspace: Workspace, record: _Record) -> list[str]:
    try:
        return unmake(workspace, record.id, record.mark)
    except HumbleError as error:
        return [f"unknown: {error.message}"]


def _playable(
    workspace: Workspace, queries: Sequence[str], asked: Asked
) -> tuple[list[CapturedRun], int]:
    """The runs that can be sent, and how many queries have none."""
    found = workspace.ledger.replays.captured(MOST_RUNS, queries)
    able = [run for run in found if _may_run(run, asked)]
    if asked.rhythm is Rhythm.CAPTURED:
        able = [run for run in able if run.at_s is not None]
    if not able:
        raise WrongUsage(
            "No captured run can be sent again: none has its values"
            + (", its moment" if asked.rhythm is Rhythm.CAPTURED else "")
            + (" and only reads." if not asked.allow_writes else "."),
            "Capture some first:  humble capture log FILE",
        )
    return able, len({run.query for run in found} - {run.query for run in able})


def _may_run(run: CapturedRun, asked: Asked) -> bool:
    kind = kind_of(run.statement.sql)
    return kind is StatementKind.READS or (asked.allow_writes and kind is StatementKind.CHANGES)


@dataclass(slots=True)
class _Run:
    """One replay on its way."""

    workspace: Workspace
    record: _Record
    asked: Asked
    runs: Sequence[CapturedRun]
    change: MidwayChange | None
    progress: Progress
    window: ChangeWindow | None = None  # kept here, so that Ctrl-C after the change loses nothing

    def played(self) -> Replay:
        """Play it to its end, or until Ctrl-C."""
        clock = Clock()
        with ExitStack() as opened:
            players = []
            for dues in self._dues():
                client = self._client()
                opened.callback(client.close)
                players.append(Player(client, dues, clock))
            threads = [threading.Thread(target=p.play, daemon=True) for p in players]
            clock.start()
            for thread in threads:
                thread.start()
            stopped, ended = False, 0.0
            try:
                self._conducted(clock, players, threads)
            except KeyboardInterrupt:
                stopped = True
            finally:
                ended = min(clock.now(), self._whole_s())
                end(players, threads, clock)
        return self._summed(players, ended, stopped=stopped)

    def _whole_s(self) -> float:
        """The time asked for; what making the change took comes on top of it."""
        window = self.window
        return self.asked.seconds + (window.done_s - window.begun_s if window is not None else 0.0)

    def _client(self) -> Client:
        return self.workspace.server(self.record.mark).client(writes=self.asked.allow_writes)

    def _dues(self) -> list[Iterator[Due]]:
        asked = self.asked
        if asked.rhythm is Rhythm.CAPTURED:
            shares = by_session(self.runs, asked.clients, asked.speed)
            return [iter(share) for share in shares if share]
        calls = self.workspace.ledger.queries.calls()
        return [
            closed_loop(self.runs, calls, asked.seed * 1_000 + number)
            for number in range(asked.clients)
        ]

    def _conducted(
        self, clock: Clock, players: Sequence[Player], threads: Sequence[threading.Thread]
    ) -> None:
        """Wait for the end, and make the change at its moment."""
        asked = self.asked
        at = asked.change_at_s if asked.change_at_s is not None else asked.seconds / 2
        while any(thread.is_alive() for thread in threads):
            if self.change is not None and self.window is None and clock.now() >= at:
                self.window = self._changed(self.change, clock, players)
            whole = self._whole_s()
            if clock.now() >= whole:
                break
            done = sum(len(player.sent) for player in players)
            self.progress(f"second {clock.now():.0f} of {whole:.0f}: {done:,} statements")
            clock.over.wait(LOOK_S)
        if players and all(player.lost for player in players):
            raise TargetUnreachable(players[0].lost, "All clients lost their connection.")

    def _changed(
        self, change: MidwayChange, clock: Clock, players: Sequence[Player]
    ) -> ChangeWindow:
        begun = clock.now()
        self.progress("making the change")
        make(self.workspace, self.record.id, change, self.record.mark)
        for player in players:
            player.wanted += change.for_clients
        return ChangeWindow(begun, clock.now())

    def _summed(
        self,
        players: Sequence[Player],
        ended: float,
        *,
        stopped: bool,
    ) -> Replay:
        sent: list[Sent] = sorted(
            (each for player in players for each in player.sent if each.at_s <= ended),
            key=lambda each: each.at_s,
        )
        late = [ms for player in players for ms in player.late_ms]
        return Replay(
            rhythm=self.asked.rhythm,
            clients=len(players),
            seconds=ended,
            phases=phases(sent, ended, self.window),
            by_second=by_second(sent, ended),
            change=self.window,
            errors=tuple((self.workspace.kept_words(w), n) for w, n in errors(sent)),
            late_ms=statistics.median(late) if late else None,
            stopped_early=stopped,
        )
