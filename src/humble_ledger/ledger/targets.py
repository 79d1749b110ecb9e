"""Targets: the databases we may talk to."""

from __future__ import annotations

from sqlalchemy import insert, select, update

from humble_ledger.core.entries import TargetEntry
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.shelf import Shelf, add_event, now


class Targets(Shelf):
    """Every target by name; its URL never holds a password."""

    def keep(self, target: TargetEntry) -> None:
        """Remember a target, or what is new of one known by this name."""
        values = {
            "url": target.url,
            "engine": target.engine,
            "version": target.version,
            "role": target.role,
        }
        with self.store.writing() as c:
            known = c.execute(
                update(t.targets).where(t.targets.c.name == target.name).values(**values)
            )
            if known.rowcount == 0:
                c.execute(insert(t.targets).values(name=target.name, at=now(), **values))
                words = f"target {target.name}: {target.engine} {target.version}, {target.role}"
                add_event(c, target.name, words)

    def all(self) -> list[TargetEntry]:
        """Every target, in the order they came to be known."""
        rows = self.rows(select(t.targets).order_by(t.targets.c.id))
        return [TargetEntry(row.name, row.url, row.engine, row.version, row.role) for row in rows]
