"""Queries and their runs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, Select, func, select, update

from humble_ledger.core.entries import PeriodEntry, RunEntry
from humble_ledger.core.statements.fingerprint import Normalised, normalise
from humble_ledger.core.statements.kinds import Statement, shorten
from humble_ledger.core.statements.tokens import has_placeholders
from humble_ledger.core.statements.wording import refill
from humble_ledger.core.workload.ranking import QueryRuns, RankBy
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.windows import RunChoice
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger import tables as t
from humble_ledger.ledger import usages
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, as_kept, now, number_of, whoever
from humble_ledger.ledger.store.sql import insert_many, reserve_ids
from humble_ledger.ledger.usages import AT_ONCE, Page, Summed

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
        number = number_of(Kind.QUERY, id_) if id_ else None
        with self.store.reading() as c:
            seen = _summed(c, choice, None if number is None else [number])
            return _query_runs(c, seen, None if number is None else [number])

    def page(
        self, by: RankBy, choice: RunChoice, top: int, part: float
    ) -> tuple[list[QueryRuns], Page]:
        """The first queries of a ranking of what one kind of source saw, and the sums of all.

        Chosen runs can be ranked so by time and calls only (see `usages.SUMMED_BY`).
        """
        with self.store.reading() as c:
            if choice.everything:
                found = usages.page(c, choice.source, by, top, part)
            else:
                found = usages.page_of(_sums(c, choice), by, top, part)
            numbers = list(found.numbers)
            seen = _summed(c, choice, numbers)
            rows = {each.id: each for each in _query_runs(c, seen, numbers)}
        return [rows[format_id(Kind.QUERY, number)] for number in numbers], found

    def by_time(self) -> list[str]:
        """The queries that were seen running, those that took the most time first."""
        with self.store.reading() as c:
            return [format_id(Kind.QUERY, number) for number in usages.by_time(c)]

    def calls(self) -> dict[str, int]:
        """How often each query was seen running."""
        with self.store.reading() as c:
            return {format_id(Kind.QUERY, n): count for n, count in usages.calls(c).items()}

    def total_ms(self, query: str, source: str) -> float:
        """The time of a query's runs that one kind of source saw; 0 of none."""
        u = t.usages.c
        wanted = select(u.total_ms).where(u.query_id == number_of(Kind.QUERY, query))
        found = self.rows(wanted.where(u.source == source))
        return float(found[0].total_ms) if found else 0.0

    def whole_ms(self, source: str) -> float:
        """The time of all queries that one kind of source saw."""
        with self.store.reading() as c:
            return usages.whole_ms(c, source)

    def beginning_with(self, text: str) -> list[Normalised]:
        """The queries whose text begins like this, two at most."""
        q = t.queries.c
        wanted = select(q.text, q.fingerprint).where(func.substr(q.text, 1, len(text)) == text)
        return [Normalised(row.text, row.fingerprint, ()) for row in self.rows(wanted.limit(2))]

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

        One that was given as a text, and never captured, is what its newest plan was made for.

        Raises:
            WrongUsage: the ledger has no such query, or nothing of it that could be sent.
        """
        row = self.row(Kind.QUERY, query)
        runs = self.runs(query, most=1)
        if not runs:
            # Statistics of a server have no values; a generic plan can still be had.
            with self.store.reading() as c:
                seen = _summed(c, EVERYTHING, [row.id])
                p = t.plans.c
                wanted = select(p.statement, p.parameters).where(p.query_id == row.id)
                given = c.execute(wanted.order_by(p.id.desc()).limit(1)).first()
            # A text that was given with its literals can be sent; that of statistics cannot.
            if given is not None and not has_placeholders(given.statement):
                return Statement(given.statement)
            if row.id in seen:
                return Statement(row.text)
            if given is not None:
                return Statement(given.statement, tuple(given.parameters))
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
    ((number, new),) = query_numbers(c, [found])
    return number, new


def query_numbers(c: Connection, found: Sequence[Normalised]) -> list[tuple[int, bool]]:
    """The number of each statement's query, and whether it is new; made where there is none."""
    q = t.queries.c
    known: dict[str, int] = {}
    prints = list({each.fingerprint: each for each in found})
    for start in range(0, len(prints), AT_ONCE):
        some = prints[start : start + AT_ONCE]
        wanted = select(q.fingerprint, q.id).where(q.fingerprint.in_(some))
        known |= {row.fingerprint: row.id for row in c.execute(wanted)}
    fresh = {each.fingerprint: each for each in found if each.fingerprint not in known}
    begun, moment = reserve_ids(c, t.queries, len(fresh)), now()
    numbers = dict(zip(fresh, range(begun, begun + len(fresh)), strict=True))
    insert_many(
        c, t.queries, ("id", "at", "fingerprint", "text", "tables"),
        ((numbers[each.fingerprint], moment, each.fingerprint, each.text, "[]")
         for each in fresh.values()),
    )  # fmt: skip
    insert_many(
        c, t.events, ("at", "subject", "words", "person", "machine"),
        ((moment, format_id(Kind.QUERY, numbers[each.fingerprint]),
          f"first seen: {shorten(each.text, 70)}", *whoever()) for each in fresh.values()),
    )  # fmt: skip
    return [
        (numbers[each.fingerprint], True)
        if each.fingerprint in numbers
        else (known[each.fingerprint], False)
        for each in found
    ]


@dataclass(slots=True)
class _Seen:
    """The sums of one query, with who sent it and where it was seen."""

    summed: Summed = field(default_factory=Summed)
    applications: set[str] = field(default_factory=set)
    places: set[str] = field(default_factory=set)


def _summed(c: Connection, choice: RunChoice, numbers: Sequence[int] | None) -> Mapping[int, _Seen]:
    p, k = t.periods.c, t.captures.c
    wanted = (
        select(t.periods, t.clients.c.application, k.place)
        .join(t.clients, t.clients.c.id == p.client_id)
        .join(t.captures, k.id == p.capture_id)
    )
    wanted = _chosen(wanted, choice)
    found: dict[int, _Seen] = {}
    for part in _parts(numbers):
        some = wanted if part is None else wanted.where(p.query_id.in_(part))
        for row in c.execute(some):
            seen = found.setdefault(row.query_id, _Seen())
            seen.summed.add(row)
            if row.application:
                seen.applications.add(row.application)
            seen.places.add(row.place)
    return found


def _sums(c: Connection, choice: RunChoice) -> list[Row[Any]]:
    """Calls and times of each query in the chosen runs, without their spread."""
    p = t.periods.c
    wanted = (
        select(
            p.query_id,
            func.sum(p.calls).label("calls"),
            func.sum(p.timed).label("timed"),
            func.sum(p.total_ms).label("total_ms"),
            func.max(p.max_ms).label("max_ms"),
        )
        .join(t.clients, t.clients.c.id == p.client_id)
        .join(t.captures, t.captures.c.id == p.capture_id)
        .group_by(p.query_id)
    )
    return list(c.execute(_chosen(wanted, choice)).all())


def _parts(numbers: Sequence[int] | None) -> Iterator[Sequence[int] | None]:
    """So many numbers as one question can hold; all of them when none is asked for."""
    if numbers is None:
        yield None
        return
    for start in range(0, len(numbers), AT_ONCE):
        yield numbers[start : start + AT_ONCE]


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


def _slowest(c: Connection, numbers: Sequence[int] | None) -> dict[int, Row[Any]]:
    """Of each query its slowest run that was kept, with its wording."""
    r = t.runs.c
    found: dict[int, Row[Any]] = {}
    for part in _parts(numbers):
        place = func.row_number().over(
            partition_by=r.query_id, order_by=(func.coalesce(r.duration_ms, -1).desc(), r.id)
        )
        ranked = select(r.id, place.label("place"))
        if part is not None:
            ranked = ranked.where(r.query_id.in_(part))
        chosen = ranked.subquery()
        wanted = (
            select(r.query_id, r.literals, r.parameters, t.wordings.c.text)
            .join(chosen, chosen.c.id == r.id)
            .join(t.wordings, t.wordings.c.id == r.wording_id)
            .where(chosen.c.place == 1)
        )
        found |= {row.query_id: row for row in c.execute(wanted)}
    return found


def _query_runs(
    c: Connection, seen: Mapping[int, _Seen], numbers: Sequence[int] | None
) -> list[QueryRuns]:
    """Queries with their sums and an example each, in the order of their numbers."""
    slowest = _slowest(c, numbers)
    found = []
    for part in _parts(numbers):
        wanted = select(t.queries).order_by(t.queries.c.id)
        if part is not None:
            wanted = wanted.where(t.queries.c.id.in_(part))
        for row in c.execute(wanted):
            found.append(_one(row, seen.get(row.id), slowest.get(row.id)))
    return found


def _one(row: Row[Any], seen: _Seen | None, example: Row[Any] | None) -> QueryRuns:
    summed = seen.summed if seen is not None else None
    return QueryRuns(
        id=format_id(Kind.QUERY, row.id),
        fingerprint=row.fingerprint,
        text=row.text,
        usage=summed.usage if summed else Usage(),
        statement=refill(example.text, example.literals) if example else row.text,
        parameters=tuple(example.parameters) if example else (),
        applications=tuple(sorted(seen.applications)) if seen else (),
        tables=tuple(row.tables),
        sources=tuple(sorted(seen.places)) if seen else (),
        first_seen=_moment(summed.first if summed else None),
        last_seen=_moment(summed.last if summed else None),
        cost=row.cost,
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
