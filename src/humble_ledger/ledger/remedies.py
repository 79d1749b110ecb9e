"""Remedies: changes that could help."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Row, insert, select, update

from humble_ledger.core.entries import RemedyEntry
from humble_ledger.core.remedies.masking import masked_remedy
from humble_ledger.core.remedies.model import Remedy, RemedyType
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, new_id, now


@dataclass(frozen=True, slots=True)
class Remedies(Shelf):
    """Every change that was proposed; the same change is the same remedy.

    With ``mask`` no literal of theirs is kept.
    """

    mask: bool = False

    def keep(self, remedy: Remedy) -> RemedyEntry:
        """Keep a remedy; the same change is the same remedy, with its newest predictions.

        The entry that is given back has the remedy as it came, to be used now.
        """
        whole = remedy
        remedy = masked_remedy(remedy) if self.mask else remedy
        change = "\n".join(remedy.apply)
        with self.store.writing() as c:
            row = c.execute(select(t.remedies).where(t.remedies.c.change == change)).first()
            if row is None:
                number = new_id(
                    c.execute(
                        insert(t.remedies).values(
                            at=now(),
                            type=remedy.type.value,
                            change=change,
                            status="proposed",
                            body=encoded(remedy),
                        )
                    )
                )
                add_event(c, format_id(Kind.REMEDY, number), f"proposed {remedy.summary}")
            else:
                number = row.id
                merged = with_older_predictions(remedy, _remedy(row))
                c.execute(
                    update(t.remedies).where(t.remedies.c.id == number).values(body=encoded(merged))
                )
        entry = self.get(format_id(Kind.REMEDY, number))
        return replace(entry, remedy=whole) if self.mask else entry

    def keep_known(self, remedy: Remedy) -> RemedyEntry:
        """The remedy of this change as the ledger knows it, kept now when it is new."""
        if self.mask:
            return self.keep(remedy)
        change = "\n".join(remedy.apply)
        rows = self.rows(select(t.remedies.c.id).where(t.remedies.c.change == change))
        if rows:
            return self.get(format_id(Kind.REMEDY, rows[0].id))
        return self.keep(remedy)

    def get(self, id_: str) -> RemedyEntry:
        """One remedy."""
        row = self.row(Kind.REMEDY, id_)
        i = t.imported.c
        came = select(i.here).where(i.kind == Kind.REMEDY.value).where(i.here == row.id)
        return RemedyEntry(id_, row.at, row.status, _remedy(row), bool(self.rows(came)))

    def all(self) -> list[RemedyEntry]:
        """Every remedy, the first proposed first."""
        rows = self.rows(select(t.remedies).order_by(t.remedies.c.id))
        return [RemedyEntry(format_id(Kind.REMEDY, r.id), r.at, r.status, _remedy(r)) for r in rows]

    def indexes_for(self, query: str) -> list[RemedyEntry]:
        """The indexes that were proposed and do something for a query, the first proposed first."""
        return [
            e
            for e in self.all()
            if e.remedy.index is not None and any(p.query == query for p in e.remedy.predictions)
        ]

    def ids_for(self, query: str | None, symptom: Symptom) -> list[str]:
        """The remedies that may help against a symptom of a query, or of a schema."""
        rows = self.rows(select(t.remedies).order_by(t.remedies.c.id))
        return [
            format_id(Kind.REMEDY, row.id)
            for row in rows
            if _may_help(_remedy(row), query, symptom)
        ]


def _may_help(remedy: Remedy, query: str | None, symptom: Symptom) -> bool:
    if remedy.type is RemedyType.INDEX:
        return symptom.index_may_help and any(
            p.query == query and p.cost_predicted < p.cost_before for p in remedy.predictions
        )
    if symptom.name not in remedy.cures:
        return False
    if query is not None:
        return query in remedy.queries
    # Of a schema: the change names what the symptom is about.
    return symptom.subject.rsplit(".", maxsplit=1)[-1] in " ".join(remedy.apply)


def with_older_predictions(new: Remedy, old: Remedy) -> Remedy:
    """The remedy with what another finding of it foretells for other queries."""
    fresh = {p.query for p in new.predictions}
    kept = tuple(p for p in old.predictions if p.query not in fresh)
    queries = tuple(dict.fromkeys((*old.queries, *new.queries)))
    return replace(new, predictions=new.predictions + kept, queries=queries)


def _remedy(row: Row[Any]) -> Remedy:
    return decoded(row.body, Remedy, format_id(Kind.REMEDY, row.id))
