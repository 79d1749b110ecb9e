"""Trials, what they create on a target, and the decisions on them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, Row, insert, select, update

from humble_ledger.core.entries import SettlementEntry, TrialEntry
from humble_ledger.core.trials.model import Trial
from humble_ledger.errors import LockNotGranted
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.ids import Kind, format_id
from humble_ledger.ledger.shelf import Shelf, add_event, begin_marked, now, number_of


class Trials(Shelf):
    """Every trial, from its beginning on."""

    def begin(self, target: str, uid: str, process: str) -> tuple[str, str]:
        """A new trial: its id, and the mark its sessions carry on the target."""
        with self.store.writing() as c:
            return begin_marked(c, Kind.TRIAL, target, uid, process)

    def keep_creation(self, trial: str, schema: str, name: str) -> None:
        """Write down what a trial is about to create, before it does."""
        with self.store.writing() as c:
            c.execute(
                insert(t.creations).values(
                    at=now(), trial_id=number_of(Kind.TRIAL, trial), schema=schema, name=name
                )
            )

    def end(self, id_: str, status: str, trial: Trial | None, *, gone: bool = True) -> None:
        """Close a trial; what it created is gone, unless it is said or known to be left."""
        number = number_of(Kind.TRIAL, id_)
        body = encoded(trial) if trial else None
        with self.store.writing() as c:
            c.execute(
                update(t.trials).where(t.trials.c.id == number).values(status=status, body=body)
            )
            if gone and (trial is None or not trial.left_behind):
                _forget_creations(c, number)
            for remedy in trial.remedies if trial else ():
                c.execute(
                    update(t.remedies)
                    .where(t.remedies.c.id == number_of(Kind.REMEDY, remedy))
                    .where(t.remedies.c.status == "proposed")
                    .values(status="tried")
                )
            add_event(c, id_, _trial_words(status, trial))

    def forget_creations(self, id_: str) -> None:
        """Write down that all a trial created is gone."""
        with self.store.writing() as c:
            _forget_creations(c, number_of(Kind.TRIAL, id_))

    def get(self, id_: str) -> TrialEntry:
        """One trial."""
        return self._entry(self.row(Kind.TRIAL, id_))

    def all(self, status: str | None = None) -> list[TrialEntry]:
        """All trials, or those of one status."""
        wanted = select(t.trials).order_by(t.trials.c.id)
        if status is not None:
            wanted = wanted.where(t.trials.c.status == status)
        return [self._entry(row) for row in self.rows(wanted)]

    def _entry(self, row: Row[Any]) -> TrialEntry:
        created = self.rows(
            select(t.creations)
            .where(t.creations.c.trial_id == row.id)
            .where(t.creations.c.removed_at.is_(None))
        )
        return TrialEntry(
            format_id(Kind.TRIAL, row.id),
            row.at,
            row.target,
            row.status,
            row.mark,
            row.process,
            decoded(row.body, Trial, format_id(Kind.TRIAL, row.id)) if row.body else None,
            tuple((each.schema, each.name) for each in created),
        )

    def settle(
        self, trial: TrialEntry, settled: SettlementEntry, before: SettlementEntry | None
    ) -> None:
        """Keep the decision on a trial, and what becomes of its remedies.

        ``before`` is the decision that stood when this one was made.

        Raises:
            LockNotGranted: somebody else has decided meanwhile; nothing was kept.
        """
        status = "kept" if settled.decision == "keep" else "dropped"
        with self.store.writing() as c:
            s = t.settlements.c
            mine = s.trial_id == number_of(Kind.TRIAL, trial.id)
            stands = c.execute(
                select(s.at, s.decision, s.reason).where(mine).order_by(s.id.desc()).limit(1)
            ).first()
            if stands is not None and (before is None or stands.at != before.at):
                raise LockNotGranted(
                    f"Somebody else has settled {trial.id} meanwhile: {stands.decision} "
                    f"({stands.reason}).",
                    f"Look at it:  humble show {trial.id}",
                )
            c.execute(
                insert(t.settlements).values(
                    at=settled.at,
                    trial_id=number_of(Kind.TRIAL, trial.id),
                    decision=settled.decision,
                    reason=settled.reason,
                    files=list(settled.files),
                )
            )
            for remedy in trial.trial.remedies if trial.trial else ():
                c.execute(
                    update(t.remedies)
                    .where(t.remedies.c.id == number_of(Kind.REMEDY, remedy))
                    .values(status=status)
                )
            add_event(c, trial.id, f"settled: {settled.decision} ({settled.reason})")

    def keep_made(self, trial: str, words: str) -> None:
        """Keep in the history what was made of a trial on a target."""
        with self.store.writing() as c:
            add_event(c, trial, words)

    def settlements(self, trial: str | None = None) -> list[SettlementEntry]:
        """The decisions, all or on one trial, the newest first."""
        wanted = select(t.settlements).order_by(t.settlements.c.id.desc())
        if trial is not None:
            wanted = wanted.where(t.settlements.c.trial_id == number_of(Kind.TRIAL, trial))
        return [
            SettlementEntry(
                format_id(Kind.TRIAL, row.trial_id),
                row.at,
                row.decision,
                row.reason,
                tuple(row.files),
            )
            for row in self.rows(wanted)
        ]


def _forget_creations(c: Connection, number: int) -> None:
    c.execute(
        update(t.creations)
        .where(t.creations.c.trial_id == number)
        .where(t.creations.c.removed_at.is_(None))
        .values(removed_at=now())
    )


def _trial_words(status: str, trial: Trial | None) -> str:
    if trial is None:
        return f"trial {status}"
    if trial.not_tried:
        return f"not tried: {trial.not_tried}"
    listed = ", ".join(f"{q.query} {q.verdict.value}" for q in trial.queries)
    return f"trial {status}: {listed or trial.verdict.value}"
