"""Replays, and what takes their changes back on a target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Row, insert, select, update

from humble_ledger.core.entries import ReplayEntry
from humble_ledger.core.replays.model import CapturedRun, Replay
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.masking import masked_expression
from humble_ledger.core.statements.wording import refill
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, begin_marked, now, number_of


@dataclass(frozen=True, slots=True)
class Replays(Shelf):
    """Every replay, from its beginning on.

    With ``mask`` what took a change back keeps its literals only until it has done so.
    """

    mask: bool = False

    def captured(self, most: int, queries: Sequence[str] = ()) -> list[CapturedRun]:
        """The newest kept runs of all queries or of some, in the order they were sent."""
        wanted = (
            select(t.runs, t.wordings.c.text)
            .join(t.wordings, t.wordings.c.id == t.runs.c.wording_id)
            .order_by(t.runs.c.started_at.desc(), t.runs.c.id.desc())
            .limit(most)
        )
        if queries:
            numbers = [number_of(Kind.QUERY, query) for query in queries]
            wanted = wanted.where(t.runs.c.query_id.in_(numbers))
        rows = self.rows(wanted)[::-1]
        moments = [datetime.fromisoformat(r.started_at) if r.started_at else None for r in rows]
        first = min((moment for moment in moments if moment is not None), default=None)
        return [
            CapturedRun(
                format_id(Kind.QUERY, row.query_id),
                Statement(refill(row.text, row.literals), tuple(row.parameters)),
                row.session,
                (moment - first).total_seconds() if moment is not None and first else None,
            )
            for row, moment in zip(rows, moments, strict=True)
        ]

    def begin(self, target: str, uid: str, process: str) -> tuple[str, str]:
        """A new replay: its id, and the mark its sessions carry on the target."""
        with self.store.writing() as c:
            return begin_marked(c, Kind.REPLAY, target, uid, process)

    def keep_undoing(self, replay: str, statement: str) -> None:
        """Write down what will take a change back, before the change is made."""
        with self.store.writing() as c:
            c.execute(
                insert(t.undoings).values(
                    at=now(), replay_id=number_of(Kind.REPLAY, replay), statement=statement
                )
            )

    def undone(self, replay: str, statement: str) -> None:
        """Write down that it was taken back."""
        with self.store.writing() as c:
            c.execute(
                update(t.undoings)
                .where(t.undoings.c.replay_id == number_of(Kind.REPLAY, replay))
                .where(t.undoings.c.statement == statement)
                .values(done_at=now(), statement=self._kept(statement))
            )

    def _kept(self, statement: str) -> str:
        return masked_expression(statement) if self.mask else statement

    def end(self, id_: str, status: str, replay: Replay | None) -> None:
        """Close a replay."""
        body = encoded(replay) if replay else None
        with self.store.writing() as c:
            c.execute(
                update(t.replays)
                .where(t.replays.c.id == number_of(Kind.REPLAY, id_))
                .values(status=status, body=body)
            )
            add_event(c, id_, _words(status, replay))

    def get(self, id_: str) -> ReplayEntry:
        """One replay."""
        return self._entry(self.row(Kind.REPLAY, id_))

    def all(self) -> list[ReplayEntry]:
        """All replays."""
        return [self._entry(row) for row in self.rows(select(t.replays).order_by(t.replays.c.id))]

    def _entry(self, row: Row[Any]) -> ReplayEntry:
        left = self.rows(
            select(t.undoings)
            .where(t.undoings.c.replay_id == row.id)
            .where(t.undoings.c.done_at.is_(None))
            .order_by(t.undoings.c.id.desc())
        )
        return ReplayEntry(
            format_id(Kind.REPLAY, row.id),
            row.at,
            row.target,
            row.status,
            row.mark,
            row.process,
            decoded(row.body, Replay, format_id(Kind.REPLAY, row.id)) if row.body else None,
            tuple(each.statement for each in left),
        )


def _words(status: str, replay: Replay | None) -> str:
    if replay is None:
        return f"replay {status}"
    told = "; ".join(
        f"{phase.name} {phase.per_second:,.0f} runs in a second" for phase in replay.phases
    )
    return f"replay {status}: {told}"
