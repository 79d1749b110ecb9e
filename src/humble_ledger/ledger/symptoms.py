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

    def keep_of_workload(
        self, capture: str, query: str, found: Sequence[Symptom]
    ) -> list[SymptomEntry]:
        """Keep symptoms that a capture shows in how a query is sent."""
        ids = []
        with self.store.writing() as c:
            for symptom in found:
                made = c.execute(
                    insert(t.symptoms).values(
                        at=now(),
                        capture_id=number_of(Kind.CAPTURE, capture),
                        query_id=number_of(Kind.QUERY, query),
                        name=symptom.name,
                        node=symptom.node,
                        body=msgspec.json.encode(symptom),
                    )
                )
                ids.append(format_id(Kind.SYMPTOM, new_id(made)))
                add_event(c, ids[-1], f"{symptom.name} in {query}: {symptom.cause.name}")
        return [self.get(id_) for id_ in ids]

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
        return SymptomEntry(
            id_,
            row.at,
            query,
            format_id(Kind.PLAN, row.plan_id) if row.plan_id else None,
            symptom,
            helped,
            format_id(Kind.CAPTURE, row.capture_id) if row.capture_id else None,
        )

    def of_query(self, query: str) -> list[SymptomEntry]:
        """The symptoms of a query's newest diagnosed plan, and those of its newest capture."""
        wanted = select(t.symptoms).where(t.symptoms.c.query_id == number_of(Kind.QUERY, query))
        rows = self.rows(wanted)
        plan = max((row.plan_id for row in rows if row.plan_id), default=None)
        capture = max((row.capture_id for row in rows if row.capture_id), default=None)
        return [
            self.get(format_id(Kind.SYMPTOM, row.id))
            for row in rows
            if (row.plan_id and row.plan_id == plan)
            or (row.capture_id and row.capture_id == capture)
        ]

    def of_workload(self, query: str) -> list[SymptomEntry]:
        """The symptoms that captures show in how a query is sent: the newest of each name."""
        return [entry for entry in self.of_query(query) if entry.plan is None]
