"""Symptoms: of plans, of the runs in captures, and of a target's schema."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Row, insert, select, update

from humble_ledger.core.entries import PlanEntry, SymptomEntry
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.remedies import Remedies
from humble_ledger.ledger.shelf import Shelf, add_event, new_id, now, number_of


class Symptoms(Shelf):
    """What was found. Found again, a symptom keeps its id and gets its new figures."""

    def keep(self, plan: PlanEntry, found: Sequence[Symptom]) -> list[SymptomEntry]:
        """Keep the symptoms of a plan."""
        places = {"plan_id": number_of(Kind.PLAN, plan.id), "capture_id": None}
        return self._keep(found, places, plan.query, plan.query or plan.id)

    def keep_of_workload(
        self, capture: str, query: str | None, found: Sequence[Symptom]
    ) -> list[SymptomEntry]:
        """Keep symptoms that a capture shows in how a query is sent, or of all its queries."""
        places = {"plan_id": None, "capture_id": number_of(Kind.CAPTURE, capture)}
        return self._keep(found, places, query, query or capture)

    def keep_of_schema(self, target: str, found: Sequence[Symptom]) -> list[SymptomEntry]:
        """Keep the symptoms of a target's schema."""
        places = {"plan_id": None, "capture_id": None}
        return self._keep(found, places, None, target, schema_of=target)

    def get(self, id_: str) -> SymptomEntry:
        """One symptom, with the remedies proposed for its query."""
        return self._entry(self.row(Kind.SYMPTOM, id_))

    def of_query(self, query: str, *, helped: bool = True) -> list[SymptomEntry]:
        """The symptoms of a query's newest diagnosed plan, and those of its newest capture.

        Without ``helped`` nobody looks which remedies may help, which takes reading them all.
        """
        wanted = select(t.symptoms).where(t.symptoms.c.query_id == number_of(Kind.QUERY, query))
        rows = self.rows(wanted)
        plan = max((row.plan_id for row in rows if row.plan_id), default=None)
        newest: dict[str, int] = {}
        for row in rows:
            if row.capture_id:
                newest[row.name] = max(newest.get(row.name, 0), row.capture_id)
        return [
            self._entry(row, helped)
            for row in rows
            if (row.plan_id and row.plan_id == plan)
            or (row.capture_id and row.capture_id == newest[row.name])
        ]

    def beside_queries(self) -> list[SymptomEntry]:
        """Those of schemas, and of the newest capture as a whole."""
        s = t.symptoms.c
        rows = self.rows(select(t.symptoms).where(s.query_id.is_(None)).order_by(s.id))
        newest = max((row.capture_id for row in rows if row.capture_id), default=None)
        return [
            self._entry(row, False)
            for row in rows
            if row.plan_id is None and row.capture_id in (None, newest)
        ]

    def of_workload(self, query: str) -> list[SymptomEntry]:
        """The symptoms that captures show in how a query is sent: the newest of each name."""
        return [entry for entry in self.of_query(query) if entry.plan is None]

    def _keep(
        self,
        found: Sequence[Symptom],
        places: Mapping[str, int | None],
        query: str | None,
        words: str,
        schema_of: str = "",
    ) -> list[SymptomEntry]:
        places = {**places, "query_id": number_of(Kind.QUERY, query) if query else None}
        s = t.symptoms.c
        ids = []
        with self.store.writing() as c:
            for symptom in found:
                subject = f"{schema_of}: {symptom.subject}" if schema_of else ""
                same = select(s.id).where(s.name == symptom.name).where(s.node == symptom.node)
                same = same.where(s.subject == subject)
                for column, number in places.items():
                    same = same.where(t.symptoms.c[column].is_not_distinct_from(number))
                known = c.execute(same).scalar()
                body = encoded(symptom)
                if known is None:
                    values = {**places, "name": symptom.name, "node": symptom.node}
                    made = insert(t.symptoms).values(**values, at=now(), subject=subject, body=body)
                    known = new_id(c.execute(made))
                    of = f"{words} {symptom.subject}".strip()
                    said = f"{symptom.name} in {of}: {symptom.cause.name}"
                    add_event(c, format_id(Kind.SYMPTOM, known), said)
                else:
                    c.execute(update(t.symptoms).where(s.id == known).values(body=body))
                ids.append(format_id(Kind.SYMPTOM, known))
        return [self.get(id_) for id_ in ids]

    def _entry(self, row: Row[Any], look_for_help: bool = True) -> SymptomEntry:
        query = format_id(Kind.QUERY, row.query_id) if row.query_id else None
        id_ = format_id(Kind.SYMPTOM, row.id)
        symptom = decoded(row.body, Symptom, id_)
        helped: tuple[str, ...] = ()
        if look_for_help and not symptom.harmless:
            helped = tuple(Remedies(self.store).ids_for(query, symptom))
        return SymptomEntry(
            id_,
            row.at,
            query,
            format_id(Kind.PLAN, row.plan_id) if row.plan_id else None,
            symptom,
            helped,
            format_id(Kind.CAPTURE, row.capture_id) if row.capture_id else None,
        )
