"""Notes that people write to entries."""

from __future__ import annotations

from sqlalchemy import insert, select

from humble_ledger.core.entries import NoteEntry
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.shelf import Shelf, add_event, now, whoever


class Notes(Shelf):
    """What was written to an entry, in order of time."""

    def add(self, subject: str, text: str) -> NoteEntry:
        """Write a note to an entry that exists."""
        person, machine = whoever()
        note = NoteEntry(now(), subject, text, person, machine)
        with self.store.writing() as c:
            c.execute(
                insert(t.notes).values(
                    at=note.at, subject=subject, text=text, person=person, machine=machine
                )
            )
            add_event(c, subject, f"note: {shorten(text, 70)}")
        return note

    def of(self, subject: str) -> list[NoteEntry]:
        """The notes of an entry, the oldest first."""
        n = t.notes.c
        rows = self.rows(select(t.notes).where(n.subject == subject).order_by(n.at, n.id))
        return [NoteEntry(r.at, r.subject, r.text, r.person, r.machine) for r in rows]
