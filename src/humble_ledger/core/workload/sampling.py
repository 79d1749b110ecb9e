"""Looking again and again at what runs: waits, blockers, long transactions, longest runs.

Each look is a sample. What is seen in one of n looks taken every 200 ms is taken to have
lasted 200 ms; figures that come so are estimates, and statements shorter than the pause
between two looks are mostly missed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

RUNNING = "Running"  # the kind of wait of a session that waits for nothing
ON_PROCESSOR = "nothing (it was working)"
ACTIVE = "active"
IDLE_IN_TRANSACTION = "idle in transaction"
LONG_TRANSACTION_S = 10.0


@dataclass(frozen=True, slots=True)
class SessionLook:
    """One session at one moment; empty text where the server tells nothing.

    ``blocked_by`` are the processes that hold what it waits for.
    """

    pid: int
    user: str
    database: str
    application: str
    state: str
    sql: str
    wait_kind: str
    wait_event: str
    began: datetime | None
    statement_began: datetime | None
    state_since: datetime | None
    blocked_by: Sequence[int] = ()
    leader: int | None = None


@dataclass(frozen=True, slots=True)
class ActivityLook:
    """All sessions at one moment, by the server's clock."""

    at: datetime
    sessions: Sequence[SessionLook]


@dataclass(slots=True)
class StatementSeen:
    """One execution seen in the samples.

    ``samples`` counts looks at it (not at its workers), ``lasted_ms`` what it had lasted when
    it was seen last: it took at least so long.
    """

    pid: int
    sql: str
    user: str
    database: str
    application: str
    began: datetime
    samples: int = 0
    lasted_ms: float = 0.0
    waits: dict[tuple[str, str], int] = field(default_factory=dict)


@dataclass(slots=True)
class TransactionSeen:
    """A transaction that was open for long, and how long its session did nothing in it."""

    pid: int
    user: str
    application: str
    began: datetime
    open_s: float
    idle_s: float
    last_sql: str


@dataclass(frozen=True, slots=True)
class Blocking:
    """One session that waits for others, as seen: who, for how long at most (s), for whom."""

    pid: int
    sql: str
    waited_s: float
    wait_event: str
    blocked_by: tuple[int, ...]


@dataclass(slots=True)
class Samples:
    """What a series of looks showed; feed it with `look`.

    ``pause_ms`` is the time between two looks as it was meant.
    """

    pause_ms: float
    looks: int = 0
    first_at: datetime | None = None
    last_at: datetime | None = None
    statements: dict[tuple[int, datetime], StatementSeen] = field(default_factory=dict)
    transactions: dict[tuple[int, datetime], TransactionSeen] = field(default_factory=dict)
    blocked: dict[int, Blocking] = field(default_factory=dict)
    blockers: dict[int, SessionLook] = field(default_factory=dict)

    def look(self, look: ActivityLook) -> None:
        """Take one look."""
        self.looks += 1
        self.first_at = self.first_at or look.at
        self.last_at = look.at
        by_pid = {session.pid: session for session in look.sessions}
        for session in look.sessions:
            if session.state == ACTIVE and session.statement_began and session.leader is None:
                self._statement(session, look.at)
            if session.began is not None:
                self._transaction(session, look.at)
            if session.blocked_by:
                self._blocked(session, look.at, by_pid)

    @property
    def seconds(self) -> float:
        """From the first look to the last."""
        if self.first_at is None or self.last_at is None:
            return 0.0
        return (self.last_at - self.first_at).total_seconds()

    @property
    def sample_ms(self) -> float:
        """What one sample stands for: the time between two looks as it really was."""
        if self.looks < 2:
            return self.pause_ms
        return self.seconds * 1000.0 / (self.looks - 1)

    def waits(self) -> Mapping[tuple[str, str], int]:
        """Samples by kind and event, over all statements."""
        found: dict[tuple[str, str], int] = {}
        for statement in self.statements.values():
            for wait, count in statement.waits.items():
                found[wait] = found.get(wait, 0) + count
        return found

    def long_transactions(self) -> list[TransactionSeen]:
        """Transactions open for long, the longest first."""
        found = [t for t in self.transactions.values() if t.open_s >= LONG_TRANSACTION_S]
        return sorted(found, key=lambda t: t.open_s, reverse=True)

    def with_texts(self, change: Callable[[str], str]) -> Samples:
        """The same with every statement's text changed, as for masking."""
        return replace(
            self,
            statements={
                key: replace(each, sql=change(each.sql)) for key, each in self.statements.items()
            },
            transactions={
                key: replace(each, last_sql=change(each.last_sql))
                for key, each in self.transactions.items()
            },
            blocked={
                pid: replace(each, sql=change(each.sql)) for pid, each in self.blocked.items()
            },
            blockers={
                pid: replace(each, sql=change(each.sql)) for pid, each in self.blockers.items()
            },
        )

    def _statement(self, session: SessionLook, at: datetime) -> None:
        assert session.statement_began is not None
        key = (session.pid, session.statement_began)
        seen = self.statements.get(key)
        if seen is None:
            seen = self.statements[key] = StatementSeen(
                session.pid, session.sql, session.user, session.database, session.application,
                session.statement_began,
            )  # fmt: skip
        seen.samples += 1
        seen.lasted_ms = max((at - session.statement_began).total_seconds() * 1000.0, 0.0)
        wait = (session.wait_kind or RUNNING, session.wait_event or ON_PROCESSOR)
        seen.waits[wait] = seen.waits.get(wait, 0) + 1

    def _transaction(self, session: SessionLook, at: datetime) -> None:
        assert session.began is not None
        idle = 0.0
        if session.state.startswith(IDLE_IN_TRANSACTION) and session.state_since is not None:
            idle = max((at - session.state_since).total_seconds(), 0.0)
        key = (session.pid, session.began)
        before = self.transactions.get(key)
        self.transactions[key] = TransactionSeen(
            session.pid,
            session.user,
            session.application,
            session.began,
            (at - session.began).total_seconds(),
            max(idle, before.idle_s if before else 0.0),
            session.sql,
        )

    def _blocked(
        self, session: SessionLook, at: datetime, by_pid: Mapping[int, SessionLook]
    ) -> None:
        since = session.state_since or session.statement_began or at
        waited = max((at - since).total_seconds(), 0.0)
        known = self.blocked.get(session.pid)
        if known is None or known.waited_s <= waited:
            self.blocked[session.pid] = Blocking(
                session.pid, session.sql, waited, session.wait_event, tuple(session.blocked_by)
            )
        for pid in session.blocked_by:
            if pid in by_pid:
                self.blockers[pid] = by_pid[pid]


@dataclass(frozen=True, slots=True)
class BlockerBranch:
    """A session that blocks others, or waits, in the tree of who blocks whom."""

    pid: int
    sql: str
    state: str
    waited_s: float | None
    wait_event: str
    below: tuple[BlockerBranch, ...] = ()


def blocker_tree(samples: Samples) -> tuple[BlockerBranch, ...]:
    """Who blocks whom: at the top those who wait for nobody, or a ring of those who do."""
    below: dict[int, list[int]] = {}
    for blocking in samples.blocked.values():
        for pid in blocking.blocked_by:
            below.setdefault(pid, []).append(blocking.pid)
    roots = [pid for pid in below if pid not in samples.blocked]
    if not roots and below:
        roots = [min(below)]  # they wait in a ring: a deadlock the server will end
    return tuple(_branch(samples, pid, below, frozenset()) for pid in sorted(roots))


def _branch(
    samples: Samples, pid: int, below: Mapping[int, Sequence[int]], above: frozenset[int]
) -> BlockerBranch:
    waiting = samples.blocked.get(pid)
    session = samples.blockers.get(pid)
    children = (
        ()
        if pid in above
        else tuple(
            _branch(samples, child, below, above | {pid}) for child in sorted(below.get(pid, ()))
        )
    )
    return BlockerBranch(
        pid,
        waiting.sql if waiting else session.sql if session else "",
        session.state if session else ACTIVE if waiting else "unknown",
        waiting.waited_s if waiting else None,
        waiting.wait_event if waiting else "",
        children,
    )
