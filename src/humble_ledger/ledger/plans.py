"""Plans, with the server's own document of each."""

from __future__ import annotations

from typing import Any

import msgspec
from sqlalchemy import Row, insert, select, update

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, new_id, now, number_of


class Plans(Shelf):
    """Every plan that was read."""

    def keep(
        self, statement: Statement, plan: Plan, document: object, *, query: str, origin: str
    ) -> PlanEntry:
        """Keep a plan as it was read, and the server's document beside it."""
        with self.store.writing() as c:
            made = c.execute(
                insert(t.plans).values(
                    at=now(),
                    query_id=number_of(Kind.QUERY, query),
                    statement=statement.sql,
                    parameters=list(statement.values),
                    origin=origin,
                    measured=int(plan.measured),
                    cost=plan.cost_total,
                    body=encoded(plan),
                    document=msgspec.json.encode(document),
                )
            )
            number = new_id(made)
            c.execute(
                update(t.queries)
                .where(t.queries.c.id == number_of(Kind.QUERY, query))
                .values(cost=plan.cost_total)
            )
            words = f"{'measured' if plan.measured else 'estimated'} plan of {query}"
            words += "" if origin == "read" else f", {origin}"
            add_event(c, format_id(Kind.PLAN, number), words)
        return self.get(format_id(Kind.PLAN, number))

    def get(self, id_: str) -> PlanEntry:
        """One plan."""
        return _plan(self.row(Kind.PLAN, id_))

    def document(self, id_: str) -> object:
        """The document that stands beside a plan, as the server gave it."""
        return msgspec.json.decode(self.row(Kind.PLAN, id_).document)

    def of_query(self, query: str, origin: str = "read") -> list[PlanEntry]:
        """The plans of a query, the newest first."""
        wanted = (
            select(t.plans)
            .where(t.plans.c.query_id == number_of(Kind.QUERY, query))
            .where(t.plans.c.origin == origin)
            .order_by(t.plans.c.id.desc())
        )
        return [_plan(row) for row in self.rows(wanted)]

    def chief(self, query: str) -> PlanEntry | None:
        """The newest measured plan of a query that was read or logged, else the newest of all."""
        p = t.plans.c
        wanted = (
            select(t.plans)
            .where(p.query_id == number_of(Kind.QUERY, query))
            .order_by(p.origin.not_in(("read", "log")), p.measured.desc(), p.id.desc())
            .limit(1)
        )
        found = self.rows(wanted)
        return _plan(found[0]) if found else None


def _plan(row: Row[Any]) -> PlanEntry:
    id_ = format_id(Kind.PLAN, row.id)
    return PlanEntry(
        id_,
        row.at,
        format_id(Kind.QUERY, row.query_id) if row.query_id else None,
        row.statement,
        tuple(row.parameters),
        row.origin,
        decoded(row.body, Plan, id_),
    )
