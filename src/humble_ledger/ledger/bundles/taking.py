"""Taking entries out of a ledger: all, or those about some queries and what they rest on."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import msgspec
from sqlalchemy import Connection, Row, Select, Table, select

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.replays.model import Replay
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.trials.model import Trial
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.bodies import decoded
from humble_ledger.ledger.bundles import records as r
from humble_ledger.ledger.bundles.naming import ids_of, renamed_remedy
from humble_ledger.ledger.growths import growth_of_row
from humble_ledger.ledger.ids import Kind, format_id, parse_id
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.usages import AT_ONCE

_ENDED = ("done", "stopped")


def take(ledger: Ledger, ids: Sequence[str] = ()) -> r.Records:
    """The records of all entries, or of those about what the ids name.

    The queries behind the ids are taken whole: their runs, plans, symptoms, remedies and trials.
    Of queries that only share a trial with them, no more than the trial needs.

    Raises:
        WrongUsage: an id that the ledger does not have.
    """
    for id_ in ids:
        ledger.require(id_)
    with ledger.store.reading() as c:
        yield from _Taking(c, ledger.uid, _about(c, ids) if ids else None).records()


def _about(c: Connection, ids: Sequence[str]) -> set[int]:
    """The queries that ids are about."""
    found: set[int] = set()
    for id_ in ids:
        parsed = parse_id(id_)
        assert parsed is not None
        kind, number = parsed
        if kind is Kind.QUERY:
            found.add(number)
        elif kind in _BY_COLUMN:
            table, column = _BY_COLUMN[kind]
            wanted = select(table.c.query_id).where(table.c[column] == number).distinct()
            found |= {each for each in c.execute(wanted).scalars() if each is not None}
        else:
            found |= _of_body(c, kind, number)
    return found


_BY_COLUMN = {
    Kind.PLAN: (t.plans, "id"),
    Kind.SYMPTOM: (t.symptoms, "id"),
    Kind.CAPTURE: (t.periods, "capture_id"),
}


def _of_body(c: Connection, kind: Kind, number: int) -> set[int]:
    tables = {Kind.REMEDY: t.remedies, Kind.TRIAL: t.trials, Kind.REPLAY: t.replays}
    table = tables[kind]
    body = c.execute(select(table.c.body).where(table.c.id == number)).scalar()
    id_ = format_id(kind, number)
    names: set[str] = set()
    if body and kind is Kind.REMEDY:
        remedy = decoded(body, Remedy, id_)
        names = {*remedy.queries, *(p.query for p in remedy.predictions)}
    elif body and kind is Kind.TRIAL:
        names = {q.query for q in decoded(body, Trial, id_).queries}
    elif body:
        names = {q for phase in decoded(body, Replay, id_).phases for q, _ in phase.queries}
    return {parsed[1] for name in names if (parsed := parse_id(name)) is not None}


@dataclass(slots=True)
class _Taking:
    """What is taken: all when ``queries`` is None."""

    c: Connection
    uid: str
    queries: set[int] | None

    def records(self) -> r.Records:
        trials = self._trials()
        beside = {id_ for _, trial in trials for id_ in ids_of(trial)}
        named = {p[1] for i in beside if (p := parse_id(i)) and p[0] is Kind.QUERY}
        all_queries = None if self.queries is None else self.queries | named
        plans = {p[1] for i in beside if (p := parse_id(i)) and p[0] is Kind.PLAN}
        remedies = {p[1] for i in beside if (p := parse_id(i)) and p[0] is Kind.REMEDY}
        for row in self._rows(select(t.targets).order_by(t.targets.c.id)):
            yield (
                "targets",
                r.TargetRecord(row.name, row.url, row.engine, row.version, row.role, row.at),
            )
        yield from self._captures()
        yield from self._queries(all_queries)
        taken_plans: set[int] = set()
        for number, plan in self._plans(plans):
            taken_plans.add(number)
            yield "plans", plan
        yield from self._symptoms(taken_plans)
        yield from self._remedies(remedies, all_queries)
        for row, trial in trials:
            yield "trials", r.TrialRecord(
                format_id(Kind.TRIAL, row.id), self._origin(Kind.TRIAL, row.id), row.at,
                row.target, row.status, trial,
            )  # fmt: skip
        yield from self._settlements({row.id for row, _ in trials})
        yield from self._replays()
        yield from self._growths()
        yield from self._of_captures()
        yield from self._notes(all_queries, {row.id for row, _ in trials})

    def _rows(self, wanted: Select[Any]) -> Iterator[Row[Any]]:
        yield from self.c.execute(wanted)

    def _chosen(self, table: Table, numbers: set[int] | None, column: str) -> Iterator[Row[Any]]:
        """The rows whose column has one of these numbers; all of them for None."""
        wanted = select(table).order_by(table.c.id)
        if numbers is None:
            yield from self._rows(wanted)
            return
        listed = sorted(numbers)
        for start in range(0, len(listed), AT_ONCE):
            yield from self._rows(
                wanted.where(table.c[column].in_(listed[start : start + AT_ONCE]))
            )

    def _origin(self, kind: Kind, number: int) -> r.Origin:
        i = t.imported.c
        wanted = select(i.uid, i.number).where(i.kind == kind.value).where(i.here == number)
        found = self.c.execute(wanted).first()
        return (found.uid, found.number) if found is not None else (self.uid, number)

    def _trials(self) -> list[tuple[Row[Any], Trial]]:
        found = []
        for row in self._rows(select(t.trials).order_by(t.trials.c.id)):
            if row.status not in _ENDED or row.body is None:
                continue
            trial = decoded(row.body, Trial, format_id(Kind.TRIAL, row.id))
            about = {p[1] for q in trial.queries if (p := parse_id(q.query)) is not None}
            if self.queries is None or about & self.queries:
                found.append((row, trial))
        return found

    def _captures(self) -> r.Records:
        numbers: set[int] | None = None
        if self.queries is not None:
            numbers = set()
            for table in (t.periods, t.runs, t.symptoms, t.waits):
                for row in self._chosen(table, self.queries, "query_id"):
                    if row.capture_id is not None:
                        numbers.add(row.capture_id)
        for row in self._chosen(t.captures, numbers, "id"):
            told = msgspec.json.decode(row.body)
            yield "captures", r.CaptureRecord(
                format_id(Kind.CAPTURE, row.id), self._origin(Kind.CAPTURE, row.id), row.at,
                row.source, row.place, row.first_run, row.last_run, row.kept, told,
            )  # fmt: skip

    def _queries(self, numbers: set[int] | None) -> r.Records:
        for row in self._chosen(t.queries, numbers, "id"):
            yield (
                "queries",
                r.QueryRecord(
                    _q(row.id), row.at, row.fingerprint, row.text, list(row.tables), row.cost
                ),
            )

    def _plans(self, beside: set[int]) -> Iterator[tuple[int, r.PlanRecord]]:
        rows: dict[int, Row[Any]] = {
            row.id: row for row in self._chosen(t.plans, self.queries, "query_id")
        }
        missing = beside - rows.keys()
        rows |= {row.id: row for row in self._chosen(t.plans, missing, "id")} if missing else {}
        for number in sorted(rows):
            row, id_ = rows[number], format_id(Kind.PLAN, number)
            yield number, r.PlanRecord(
                id_, self._origin(Kind.PLAN, number), row.at,
                _q(row.query_id) if row.query_id else None, row.statement, list(row.parameters),
                row.origin, row.cost, decoded(row.body, Plan, id_),
                msgspec.json.decode(row.document),
            )  # fmt: skip

    def _symptoms(self, plans: set[int]) -> r.Records:
        for row in self._chosen(t.symptoms, self.queries, "query_id"):
            if row.plan_id is not None and row.plan_id not in plans:
                continue
            id_ = format_id(Kind.SYMPTOM, row.id)
            yield "symptoms", r.SymptomRecord(
                id_, self._origin(Kind.SYMPTOM, row.id), row.at,
                _q(row.query_id) if row.query_id else None,
                format_id(Kind.PLAN, row.plan_id) if row.plan_id else None,
                format_id(Kind.CAPTURE, row.capture_id) if row.capture_id else None,
                row.subject, decoded(row.body, Symptom, id_),
            )  # fmt: skip

    def _remedies(self, beside: set[int], queries: set[int] | None) -> r.Records:
        known = None if queries is None else {_q(number) for number in queries}
        for row in self._rows(select(t.remedies).order_by(t.remedies.c.id)):
            id_ = format_id(Kind.REMEDY, row.id)
            remedy = decoded(row.body, Remedy, id_)
            if known is not None:
                names = {*remedy.queries, *(p.query for p in remedy.predictions)}
                if row.id not in beside and not names & known:
                    continue
                remedy = renamed_remedy(remedy, lambda name: name if name in known else "")
            yield (
                "remedies",
                r.RemedyRecord(id_, self._origin(Kind.REMEDY, row.id), row.at, row.status, remedy),
            )

    def _settlements(self, trials: set[int]) -> r.Records:
        for row in self._chosen(t.settlements, trials, "trial_id"):
            yield "settlements", r.SettlementRecord(
                format_id(Kind.TRIAL, row.trial_id), row.at, row.decision, row.reason,
                list(row.files),
            )  # fmt: skip

    def _replays(self) -> r.Records:
        if self.queries is not None:
            return  # of many queries at once; only a whole ledger has all of them
        for row in self._rows(select(t.replays).order_by(t.replays.c.id)):
            if row.status not in _ENDED or row.body is None:
                continue
            id_ = format_id(Kind.REPLAY, row.id)
            yield "replays", r.ReplayRecord(
                id_, self._origin(Kind.REPLAY, row.id), row.at, row.target, row.status,
                decoded(row.body, Replay, id_),
            )  # fmt: skip

    def _growths(self) -> r.Records:
        for row in self._chosen(t.growths, self.queries, "query_id"):
            yield (
                "growths",
                r.GrowthRecord(_q(row.query_id), row.at, growth_of_row(row.query_id, row.body)),
            )

    def _of_captures(self) -> r.Records:
        """What captures have of each query: runs, periods, who sent it, waits, incidents."""
        clients = {
            row.id: (row.user, row.database, row.application)
            for row in self._rows(select(t.clients))
        }
        wordings = {row.id: row.text for row in self._chosen(t.wordings, self.queries, "query_id")}
        for row in self._chosen(t.runs, self.queries, "query_id"):
            yield "runs", r.RunRecord(
                _q(row.query_id), _k(row.capture_id) if row.capture_id else None,
                wordings[row.wording_id], clients[row.client_id], row.started_at,
                row.duration_ms, row.rows, list(row.literals), list(row.parameters), row.session,
            )  # fmt: skip
        for row in self._chosen(t.periods, self.queries, "query_id"):
            yield "periods", r.PeriodRecord(
                _q(row.query_id), _k(row.capture_id), clients[row.client_id], row.first_at,
                row.last_at, row.calls, row.timed, row.total_ms, row.squares_ms2, row.max_ms,
                row.durations, row.work,
            )  # fmt: skip
        for row in self._chosen(t.senders, self.queries, "query_id"):
            yield "senders", r.SenderRecord(
                _q(row.query_id), _k(row.capture_id), row.code, row.function, row.route,
                row.calls, row.total_ms, row.max_ms, row.requests, row.most_in_one,
            )  # fmt: skip
        for row in self._chosen(t.tags, self.queries, "query_id"):
            yield "tags", r.TagRecord(
                _q(row.query_id), _k(row.capture_id), row.name, row.value, row.calls,
                row.total_ms, row.squares_ms2, row.max_ms,
            )  # fmt: skip
        for row in self._chosen(t.waits, self.queries, "query_id"):
            yield "waits", r.WaitRecord(
                _q(row.query_id), _k(row.capture_id), row.kind, row.event, row.samples,
                row.total_ms,
            )  # fmt: skip
        for row in self._chosen(t.incidents, self.queries, "query_id"):
            yield "incidents", r.IncidentRecord(
                _q(row.query_id) if row.query_id else None, _k(row.capture_id), row.at, row.kind,
                row.session, row.amount, row.detail,
            )  # fmt: skip

    def _notes(self, queries: set[int] | None, trials: set[int]) -> r.Records:
        for row in self._rows(select(t.notes).order_by(t.notes.c.id)):
            parsed = parse_id(row.subject)
            if queries is not None and parsed is not None:
                kind, number = parsed
                taken = {Kind.QUERY: queries, Kind.TRIAL: trials}.get(kind, set())
                if number not in taken:
                    continue
            yield "notes", r.NoteRecord(row.subject, row.at, row.text, row.person, row.machine)


def _q(number: int) -> str:
    return format_id(Kind.QUERY, number)


def _k(number: int) -> str:
    return format_id(Kind.CAPTURE, number)
