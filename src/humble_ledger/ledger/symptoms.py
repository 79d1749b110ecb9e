"""Symptoms of plans."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from sqlalchemy import insert, select

from humble_ledger.core.entries import PlanEntry, SymptomEntry
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.remedies import Remedies
from humble_ledger.ledger.shelf import Shelf, add_event, new_id, now, number_of


class Symptoms(Shelf):
    """What was found in plans."""

    def keep(self, plan: PlanEntry, found: Sequence[Symptom]) -> list[SymptomEntry]:
        """Keep the symptoms of a plan; those known already keep their ids."""
        plan_id = number_of(Kind.PLAN, plan.id)
        with self.store.writing() as c:
            known = {
                (row.name, row.node): row.id
                for row in c.execute(select(t.symptoms).where(t.symptoms.c.plan_id == plan_id))
            }
            numbers = []
            for symptom in found:
                number = known.get((symptom.name, symptom.node))
                if number is None:
                    number = new_id(
                        c.execute(
                            insert(t.symptoms).values(
                                at=now(),
                                plan_id=plan_id,
                                query_id=number_of(Kind.QUERY, plan.query) if plan.query else None,
                                name=symptom.name,
                                node=symptom.node,
                                body=msgspec.json.encode(symptom),
                            )
                        )
                    )
                    words = f"{symptom.name} in {plan.query or plan.id}: {symptom.cause.name}"
                    add_event(c, format_id(Kind.SYMPTOM, number), words)
                numbers.append(number)
        return [self.get(format_id(Kind.SYMPTOM, number)) for number in numbers]

    def get(self, id_: str) -> SymptomEntry:
        """One symptom, with the remedies proposed for its query."""
        row = self.row(Kind.SYMPTOM, id_)
        query = format_id(Kind.QUERY, row.query_id) if row.query_id else None
        symptom = msgspec.json.decode(row.body, type=Symptom)
        helped = (
            ()
            if query is None or not symptom.index_may_help
            else tuple(Remedies(self.store).ids_for(query))
        )
        return SymptomEntry(id_, row.at, query, format_id(Kind.PLAN, row.plan_id), symptom, helped)

    def of_query(self, query: str) -> list[SymptomEntry]:
        """The symptoms of a query's newest diagnosed plan."""
        wanted = select(t.symptoms).where(t.symptoms.c.query_id == number_of(Kind.QUERY, query))
        rows = self.rows(wanted)
        newest = max((row.plan_id for row in rows), default=None)
        return [self.get(format_id(Kind.SYMPTOM, row.id)) for row in rows if row.plan_id == newest]
