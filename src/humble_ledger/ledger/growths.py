"""What was found of how queries grow with their tables: of each query the newest study."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import Connection, delete, insert, select

from humble_ledger.core.entries import GrowthEntry
from humble_ledger.core.results.growth import GrowthCurve
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, now, number_of


class Growths(Shelf):
    """The curves of cost against size."""

    def keep(self, found: Mapping[str, GrowthCurve]) -> None:
        """Keep the curves of some queries, in place of those that were kept before."""
        with self.store.writing() as c:
            for query, curve in found.items():
                keep_growth(c, number_of(Kind.QUERY, query), now(), curve)
                add_event(c, query, f"grown: {curve.words}")

    def of(self, query: str) -> GrowthEntry | None:
        """The newest study of a query."""
        g = t.growths.c
        rows = self.rows(select(t.growths).where(g.query_id == number_of(Kind.QUERY, query)))
        if not rows:
            return None
        return GrowthEntry(query, rows[0].at, growth_of_row(rows[0].query_id, rows[0].body))


def keep_growth(c: Connection, query: int, at: str, curve: GrowthCurve) -> None:
    """Put a curve in place of the one that was kept before."""
    c.execute(delete(t.growths).where(t.growths.c.query_id == query))
    c.execute(insert(t.growths).values(at=at, query_id=query, body=encoded(curve)))


def growth_of_row(query: int, body: bytes) -> GrowthCurve:
    """The curve in a row's body."""
    return decoded(body, GrowthCurve, f"{format_id(Kind.QUERY, query)}'s growth")
