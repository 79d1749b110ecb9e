"""Captures: what was gathered, from where, and how far a file was read."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

import msgspec
from sqlalchemy import Connection, delete, insert, select, update

from humble_ledger.core.entries import CaptureEntry, ReadPosition
from humble_ledger.core.workload.observations import Observation
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.queries import query_number
from humble_ledger.ledger.shelf import Shelf, add_event, as_kept, new_id, now


class CaptureFinish(Protocol):
    """What a capture tells when its source has been read to the end."""

    def tally(self) -> tuple[int, dict[str, int], str]:
        """Lines read, what was passed over by reason, the place of the first unreadable."""
        ...

    def positions(self) -> Iterable[tuple[ReadPosition | None, ReadPosition]]:
        """Of each log: how far it had been read, and how far it is now."""
        ...


class Captures(Shelf):
    """Every act of gathering."""

    def keep(
        self,
        source: str,
        place: str,
        observations: Iterable[Observation],
        *,
        finish: CaptureFinish,
    ) -> CaptureEntry:
        """Keep observations as runs of their queries, with how far the source was read.

        ``finish`` is asked for tally and positions when all observations have been taken.
        """
        with self.store.writing() as c:
            made = c.execute(
                insert(t.captures).values(at=now(), source=source, place=place, kept=0, body=b"{}")
            )
            number = new_id(made)
            seen = _keep_runs(c, number, observations)
            lines, passed_over, first_unreadable = finish.tally()
            for before, now_at in finish.positions():
                _keep_position(c, before, now_at)
            body = {
                "lines": lines,
                "passed_over": passed_over,
                "first_unreadable": first_unreadable,
                "queries": len(seen.queries),
                "new_queries": seen.new_queries,
            }
            c.execute(
                update(t.captures)
                .where(t.captures.c.id == number)
                .values(
                    kept=seen.runs,
                    first_run=seen.first,
                    last_run=seen.last,
                    body=msgspec.json.encode(body),
                )
            )
            words = f"captured {seen.runs:,} runs of {len(seen.queries)} queries from {place}"
            add_event(c, format_id(Kind.CAPTURE, number), words)
        return self.get(format_id(Kind.CAPTURE, number))

    def positions(self) -> list[ReadPosition]:
        """How far each log was read that was ever captured."""
        return [
            ReadPosition(row.path, row.head, row.head_bytes, row.offset)
            for row in self.rows(select(t.positions))
        ]

    def get(self, id_: str) -> CaptureEntry:
        """One capture."""
        row = self.row(Kind.CAPTURE, id_)
        body = msgspec.json.decode(row.body)
        return CaptureEntry(
            id_, row.at, row.source, row.place, row.kept, row.first_run, row.last_run, **body
        )


class _Seen:
    def __init__(self) -> None:
        self.queries: set[int] = set()
        self.new_queries = 0
        self.runs = 0
        self.first: str | None = None
        self.last: str | None = None


def _keep_runs(c: Connection, capture: int, observations: Iterable[Observation]) -> _Seen:
    seen = _Seen()
    known: dict[str, int] = {}
    batch: list[dict[str, object]] = []
    for each in observations:
        number, new = query_number(c, each.statement.sql, known)
        seen.new_queries += new
        seen.queries.add(number)
        seen.runs += 1
        started = as_kept(each.started_at) if each.started_at else None
        if started is not None:
            seen.first = min(seen.first or started, started)
            seen.last = max(seen.last or started, started)
        batch.append(
            {
                "query_id": number,
                "capture_id": capture,
                "started_at": started,
                "duration_ms": each.duration_ms,
                "rows": each.rows,
                "statement": each.statement.sql,
                "parameters": list(each.statement.values),
                "user": each.user,
                "database": each.database,
                "application": each.application,
                "session": each.session,
            }
        )
        if len(batch) >= 1000:
            c.execute(insert(t.runs), batch)
            batch.clear()
    if batch:
        c.execute(insert(t.runs), batch)
    return seen


def _keep_position(c: Connection, before: ReadPosition | None, now_at: ReadPosition) -> None:
    if before is not None:
        c.execute(
            delete(t.positions)
            .where(t.positions.c.head == before.head)
            .where(t.positions.c.head_bytes == before.head_bytes)
        )
    c.execute(
        insert(t.positions).values(
            path=now_at.path,
            head=now_at.head,
            head_bytes=now_at.head_bytes,
            offset=now_at.offset,
        )
    )
