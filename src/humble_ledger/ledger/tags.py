"""What the comments of statements told, as name and value."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import Connection, func, select

from humble_ledger.core.workload.tags import TaggedQuery, TagSums
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf
from humble_ledger.ledger.store.sql import insert_many

_COLUMNS = (
    "query_id", "capture_id", "name", "value", "calls", "total_ms", "squares_ms2", "max_ms",
)  # fmt: skip


class Tags(Shelf):
    """Runs by the tags of their statements."""

    def names(self, source: str = "") -> list[str]:
        """The names there are, by one kind of source or any, those that took the most first."""
        g = t.tags.c
        wanted = select(g.name).join(t.captures, t.captures.c.id == g.capture_id)
        if source:
            wanted = wanted.where(t.captures.c.source == source)
        rows = self.rows(wanted.group_by(g.name).order_by(func.sum(g.total_ms).desc(), g.name))
        return [row.name for row in rows]

    def of(self, name: str, source: str, value: str | None = None) -> list[TaggedQuery]:
        """What queries took by the values of a tag, or with one value of it."""
        g = t.tags.c
        wanted = (
            select(
                g.query_id, g.value, func.sum(g.calls), func.sum(g.total_ms),
                func.sum(g.squares_ms2), func.max(g.max_ms),
            )
            .join(t.captures, t.captures.c.id == g.capture_id)
            .where(g.name == name)
            .where(t.captures.c.source == source)
            .group_by(g.query_id, g.value)
        )  # fmt: skip
        if value is not None:
            wanted = wanted.where(g.value == value)
        return [
            TaggedQuery(format_id(Kind.QUERY, query), of, TagSums(*sums))
            for query, of, *sums in map(tuple, self.rows(wanted))
        ]


def keep_tags(
    c: Connection,
    capture: int,
    queries: Sequence[int],
    found: Mapping[tuple[int, str, str], TagSums],
) -> None:
    """Keep what a harvest of a capture tells; ``queries`` are the numbers of its groups."""
    rows = [
        (
            queries[group], capture, name, value, sums.calls, sums.total_ms, sums.squares_ms2,
            sums.max_ms,
        )
        for (group, name, value), sums in found.items()
    ]  # fmt: skip
    insert_many(c, t.tags, _COLUMNS, rows)
