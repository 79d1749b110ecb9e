"""Queries and their runs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, Select, func, insert, select, update

from humble_ledger.core.entries import PeriodEntry, RunEntry
from humble_ledger.core.statements.fingerprint import Normalised, normalise
from humble_ledger.core.statements.kinds import Statement, shorten
from humble_ledger.core.statements.wording import refill
from humble_ledger.core.workload.durations import unpack_into
from humble_ledger.core.workload.ranking import QueryRuns
from humble_ledger.core.workload.usage import NO_WORK, Usage, Work
from humble_ledger.core.workload.windows import RunChoice
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, as_kept, new_id, now, number_of

EVERYTHING = RunChoice()
MOST_RUNS = 50_000


class Queries(Shelf):
    """Statements without their literals, each with its observed runs."""

    def keep(self, sql: str) -> str:
        """The query of a statement, new or known."""
        with self.store.writing() as c:
            number, _ = query_number(c, normalise(sql))
        return format_id(Kind.QUERY, number)

    def all(self, id_: str | None = None, choice: RunChoice = EVERYTHING) -> list[QueryRuns]:
        """Every query (or one) with what its chosen runs took."""
        queries = select(t.queries).order_by(t.queries.c.id)
        if id_ is not None:
            queries = queries.where(t.queries.c.id == number_of(Kind.QUERY, id_))
        with self.store.reading() as c:
            found = c.execute(queries).all()
            seen = _summed(c, choice, number_of(Kind.QUERY, id_) if id_ else None)
            slowest = _slowest(c)
            costs = _costs(c)
            return [
                _query_runs(c, row, seen.get(row.id), slowest.get(row.id), costs.get(row.id))
                for row in found
            ]

    def runs(self, query: str, most: int = MOST_RUNS) -> list[RunEntry]:
        """The runs of a query that were kept with their values, the slowest first."""
        wanted = (
            select(t.runs, t.wordings.c.text, t.clients)
            .join(t.wordings, t.wordings.c.id == t.runs.c.wording_id)
            .join(t.clients, t.clients.c.id == t.runs.c.client_id)
            .where(t.runs.c.query_id == number_of(Kind.QUERY, query))
            .order_by(t.runs.c.duration_ms.desc())
            .limit(most)
        )
        with self.store.reading() as c:
            return [_run(row) for row in c.execute(wanted)]

    def of_sessions(self, sessions: Iterable[str]) -> list[str]:
        """The queries of which a run by one of these sessions was kept."""
        r = t.runs.c
        wanted = select(r.query_id).where(r.session.in_(sorted(sessions))).distinct()
        with self.store.reading() as c:
            return [format_id(Kind.QUERY, number) for number in c.execute(wanted).scalars()]

    def periods(self, query: str, source: str) -> list[PeriodEntry]:
        """What a query took in each period, as one kind of source saw it."""
        p, k = t.periods.c, t.captures.c
        wanted = (
            select(p.first_at, p.last_at, p.calls, p.total_ms)
            .join(t.captures, k.id == p.capture_id)
            .where(p.query_id == number_of(Kind.QUERY, query))
            .where(k.source == source)
        )
        with self.store.reading() as c:
            return [PeriodEntry(*row) for row in c.execute(wanted)]

    def example(self, query: str) -> Statement:
        """The statement of a query's slowest run, as it can be sent.

        Raises:
            WrongUsage: the ledger has no such query, or it was never seen running.
        """
        row = self.row(Kind.QUERY, query)
        runs = self.runs(query, most=1)
        if not runs:
            # Statistics of a server have no values; a generic plan can still be had.
            with self.store.reading() as c:
                seen = _summed(c, EVERYTHING, row.id)
            if row.id in seen:
                return Statement(row.text)
            raise WrongUsage(
                f"No run of {query} is in the ledger, so its values are not known.",
                "Give the statement itself, with its values in it.",
            )
        return Statement(runs[0].statement, runs[0].parameters)

    def keep_tables(self, query: str, names: Sequence[str]) -> None:
        """Remember which tables a query reads, as its plan shows."""
        with self.store.writing() as c:
            c.execute(
                update(t.queries)
                .where(t.queries.c.id == number_of(Kind.QUERY, query))
                .values(tables=list(names))
            )

    def text(self, query: str) -> str:
        """A query's text, with $1 … in place of literals."""
        return str(self.row(Kind.QUERY, query).text)


def query_number(c: Connection, found: Normalised) -> tuple[int, bool]:
    """The number of a statement's query, and whether it is new."""
    wanted = select(t.queries.c.id).where(t.queries.c.fingerprint == found.fingerprint)
    number = c.execute(wanted).scalar()
    if number is not None:
        return int(number), False
    made = c.execute(
        insert(t.queries).values(
            at=now(), fingerprint=found.fingerprint, text=found.text, tables=[]
        )
    )
    add_event(c, format_id(Kind.QUERY, new_id(made)), f"first seen: {shorten(found.text, 70)}")
    return new_id(made), True


class _Summed:
    """The periods of one query added up, with who sent it and where it was seen."""

    def __init__(self) -> None:
        self.calls = self.timed = 0
        self.total_ms = self.squares_ms2 = 0.0
        self.max_ms: float | None = None
        self.durations: dict[int, int] = {}
        self.sums_only = False
        self.work = NO_WORK
        self.applications: set[str] = set()
        self.places: set[str] = set()
        self.first: str | None = None
        self.last: str | None = None

    def add(self, row: Row[Any]) -> None:
        self.calls += row.calls
        self.timed += row.timed
        self.total_ms += row.total_ms
        self.squares_ms2 += row.squares_ms2
        if row.max_ms is not None:
            self.max_ms = max(self.max_ms or 0.0, row.max_ms)
        if row.durations:
            unpack_into(row.durations, self.durations)
        else:
            self.sums_only = True
        if row.work:
            self.work = self.work.plus(Work(**row.work))
        if row.application:
            self.applications.add(row.application)
        self.places.add(row.place)
        if row.first_at:
            self.first = min(self.first or row.first_at, row.first_at)
            self.last = max(self.last or row.last_at, row.last_at)

    @property
    def usage(self) -> Usage:
        return Usage(
            self.calls,
            self.timed,
            self.total_ms,
            self.squares_ms2,
            self.max_ms,
            {} if self.sums_only else self.durations,
            self.work,
        )


def _summed(c: Connection, choice: RunChoice, query: int | None) -> dict[int, _Summed]:
    p, k = t.periods.c, t.captures.c
    wanted = (
        select(t.periods, t.clients.c.application, k.place)
        .join(t.clients, t.clients.c.id == p.client_id)
        .join(t.captures, k.id == p.capture_id)
    )
    wanted = _chosen(wanted, choice)
    if query is not None:
        wanted = wanted.where(p.query_id == query)
    found: dict[int, _Summed] = {}
    for row in c.execute(wanted):
        found.setdefault(row.query_id, _Summed()).add(row)
    return found


def _chosen(wanted: Select[Any], choice: RunChoice) -> Select[Any]:
    """Moments are kept as UTC text, which sorts as they do."""
    p, k = t.periods.c, t.captures.c
    if choice.since is not None:
        wanted = wanted.where(p.last_at >= as_kept(choice.since))
    if choice.until is not None:
        wanted = wanted.where(p.first_at < as_kept(choice.until))
    if choice.user:
        wanted = wanted.where(t.clients.c.user == choice.user)
    if choice.application:
        wanted = wanted.where(t.clients.c.application == choice.application)
    if choice.source:
        wanted = wanted.where(k.source == choice.source)
    if choice.captures is not None:
        wanted = wanted.where(k.id.between(*choice.captures))
    return wanted


def _slowest(c: Connection) -> dict[int, int]:
    """Of each query the number of its slowest run that was kept."""
    r = t.runs.c
    # SQLite gives the row of the maximum for the bare column beside a max().
    wanted = select(r.query_id, r.id, func.max(func.coalesce(r.duration_ms, -1))).group_by(
        r.query_id
    )
    return {row[0]: row[1] for row in c.execute(wanted)}


def _costs(c: Connection) -> dict[int, float]:
    """The estimated cost in each query's newest plan."""
    newest = select(func.max(t.plans.c.id)).group_by(t.plans.c.query_id)
    wanted = select(t.plans.c.query_id, t.plans.c.cost).where(t.plans.c.id.in_(newest))
    return {row[0]: row[1] for row in c.execute(wanted) if row[0] and row[1] is not None}


def _query_runs(
    c: Connection, row: Row[Any], seen: _Summed | None, slowest: int | None, cost: float | None
) -> QueryRuns:
    example = None
    if slowest is not None:
        wanted = (
            select(t.runs.c.literals, t.runs.c.parameters, t.wordings.c.text)
            .join(t.wordings, t.wordings.c.id == t.runs.c.wording_id)
            .where(t.runs.c.id == slowest)
        )
        example = c.execute(wanted).one()
    return QueryRuns(
        id=format_id(Kind.QUERY, row.id),
        fingerprint=row.fingerprint,
        text=row.text,
        usage=seen.usage if seen else Usage(),
        statement=refill(example.text, example.literals) if example else row.text,
        parameters=tuple(example.parameters) if example else (),
        applications=tuple(sorted(seen.applications)) if seen else (),
        tables=tuple(row.tables),
        sources=tuple(sorted(seen.places)) if seen else (),
        first_seen=_moment(seen.first if seen else None),
        last_seen=_moment(seen.last if seen else None),
        cost=cost,
    )


def _moment(kept: str | None) -> datetime | None:
    return datetime.fromisoformat(kept) if kept else None


def _run(row: Row[Any]) -> RunEntry:
    return RunEntry(
        row.started_at,
        row.duration_ms,
        refill(row.text, row.literals),
        tuple(row.parameters),
        row.application,
        row.user,
        row.database,
        tuple(row.literals),
        row.text,
        row.rows,
    )
