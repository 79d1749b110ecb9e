"""Where in an application statements come from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import Connection, func, select

from humble_ledger.core.workload.origins import Origin, Sender, Sent
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, number_of
from humble_ledger.ledger.store.sql import insert_many

_COLUMNS = (
    "query_id", "capture_id", "code", "function", "route", "calls", "total_ms", "max_ms",
    "requests", "most_in_one",
)  # fmt: skip


class Senders(Shelf):
    """The places of applications that sent the queries."""

    def of(self, *, query: str = "", source: str = "") -> list[Sender]:
        """Those that sent a query, or all, by one kind of source or any; most time first."""
        s = t.senders.c
        wanted = (
            select(
                s.query_id, s.code, s.function, s.route,
                func.sum(s.calls), func.sum(s.total_ms), func.max(s.max_ms),
                func.sum(s.requests), func.max(s.most_in_one),
            )
            .join(t.captures, t.captures.c.id == s.capture_id)
            .group_by(s.query_id, s.code, s.function, s.route)
            .order_by(func.sum(s.total_ms).desc(), s.code, s.query_id)
        )  # fmt: skip
        if query:
            wanted = wanted.where(s.query_id == number_of(Kind.QUERY, query))
        if source:
            wanted = wanted.where(t.captures.c.source == source)
        return [
            Sender(format_id(Kind.QUERY, row[0]), Origin(*row[1:4]), Sent(*row[4:]))
            for row in self.rows(wanted)
        ]


def keep_senders(
    c: Connection,
    capture: int,
    queries: Sequence[int],
    found: Mapping[tuple[int, Origin], Sent],
) -> None:
    """Keep what a harvest of a capture tells; ``queries`` are the numbers of its groups."""
    rows = [
        (
            queries[group], capture, origin.code, origin.function, origin.route,
            sent.calls, sent.total_ms, sent.max_ms, sent.requests, sent.most_in_one,
        )
        for (group, origin), sent in found.items()
    ]  # fmt: skip
    insert_many(c, t.senders, _COLUMNS, rows)
