"""Queries and their runs."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, Select, insert, select, update

from humble_ledger.core.entries import RunEntry
from humble_ledger.core.statements.fingerprint import normalise, skeleton
from humble_ledger.core.statements.kinds import Statement, shorten
from humble_ledger.core.workload.ranking import QueryRuns
from humble_ledger.core.workload.windows import RunChoice
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, as_kept, new_id, now, number_of

EVERYTHING = RunChoice()
MOST_KNOWN = 100_000  # statements without a skeleton must not fill the memory


class Queries(Shelf):
    """Statements without their literals, each with its observed runs."""

    def keep(self, sql: str) -> str:
        """The query of a statement, new or known."""
        with self.store.writing() as c:
            number, _ = query_number(c, sql, {})
        return format_id(Kind.QUERY, number)

    def all(self, id_: str | None = None, choice: RunChoice = EVERYTHING) -> list[QueryRuns]:
        """Every query (or one) with its chosen runs, the slowest one's statement as example."""
        queries = select(t.queries).order_by(t.queries.c.id)
        # Statements are long and many: only the example's is fetched, further down.
        r = t.runs.c
        wanted: Select[Any] = select(
            r.id, r.query_id, r.duration_ms, r.rows, r.started_at, r.application, t.captures.c.place
        ).outerjoin(t.captures)
        wanted = _chosen(wanted, choice)
        if id_ is not None:
            number = number_of(Kind.QUERY, id_)
            queries = queries.where(t.queries.c.id == number)
            wanted = wanted.where(r.query_id == number)
        with self.store.reading() as c:
            found = c.execute(queries).all()
            runs: dict[int, list[Any]] = {}
            for run in c.execute(wanted):
                runs.setdefault(run.query_id, []).append(run)
            examples: dict[int, Any] = {
                number: c.execute(
                    select(r.statement, r.parameters).where(r.id == _slowest(each).id)
                ).one()
                for number, each in runs.items()
            }
        return [_query_runs(row, runs.get(row.id, []), examples.get(row.id)) for row in found]

    def runs(self, query: str) -> list[RunEntry]:
        """The runs of a query, the slowest first."""
        wanted = (
            select(t.runs)
            .where(t.runs.c.query_id == number_of(Kind.QUERY, query))
            .order_by(t.runs.c.duration_ms.desc())
        )
        with self.store.reading() as c:
            return [
                RunEntry(
                    row.started_at,
                    row.duration_ms,
                    row.statement,
                    tuple(row.parameters),
                    row.application,
                    row.user,
                    row.database,
                )
                for row in c.execute(wanted)
            ]

    def example(self, query: str) -> Statement:
        """The statement of a query's slowest run, as it can be sent.

        Raises:
            WrongUsage: the ledger has no such query, or it was never seen running.
        """
        self.row(Kind.QUERY, query)
        runs = self.runs(query)
        if not runs:
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


def query_number(c: Connection, sql: str, known: dict[str, int]) -> tuple[int, bool]:
    """The number of a statement's query, and whether it is new; ``known`` is a cache."""
    key = skeleton(sql) or sql
    if key in known:
        return known[key], False
    number, new = _by_fingerprint(c, sql, known)
    if len(known) < MOST_KNOWN:
        known[key] = number
    return number, new


def _by_fingerprint(c: Connection, sql: str, known: dict[str, int]) -> tuple[int, bool]:
    found = normalise(sql)
    number = known.get(found.fingerprint)
    if number is not None:
        return number, False
    number = c.execute(
        select(t.queries.c.id).where(t.queries.c.fingerprint == found.fingerprint)
    ).scalar()
    new = number is None
    if number is None:
        number = new_id(
            c.execute(
                insert(t.queries).values(
                    at=now(), fingerprint=found.fingerprint, text=found.text, tables=[]
                )
            )
        )
        add_event(c, format_id(Kind.QUERY, number), f"first seen: {shorten(found.text, 70)}")
    known[found.fingerprint] = number
    return number, new


def _chosen(wanted: Select[Any], choice: RunChoice) -> Select[Any]:
    """Moments are kept as UTC text, which sorts as they do."""
    r = t.runs.c
    if choice.since is not None:
        wanted = wanted.where(r.started_at >= as_kept(choice.since))
    if choice.until is not None:
        wanted = wanted.where(r.started_at < as_kept(choice.until))
    if choice.user:
        wanted = wanted.where(r.user == choice.user)
    if choice.application:
        wanted = wanted.where(r.application == choice.application)
    return wanted


def _slowest(runs: Sequence[Any]) -> Any:
    return max(runs, key=lambda run: run.duration_ms)


def _query_runs(row: Row[Any], runs: Sequence[Any], example: Any) -> QueryRuns:
    times = sorted(run.started_at for run in runs if run.started_at)
    return QueryRuns(
        id=format_id(Kind.QUERY, row.id),
        fingerprint=row.fingerprint,
        text=row.text,
        statement=example.statement if example else row.text,
        parameters=tuple(example.parameters) if example else (),
        durations_ms=tuple(run.duration_ms for run in runs),
        rows=tuple(run.rows for run in runs if run.rows is not None),
        applications=tuple(sorted({run.application for run in runs if run.application})),
        tables=tuple(row.tables),
        sources=tuple(sorted({run.place for run in runs if run.place})),
        first_seen=datetime.fromisoformat(times[0]) if times else None,
        last_seen=datetime.fromisoformat(times[-1]) if times else None,
    )
