"""Putting records into a ledger: each entry once, under an id of this ledger.

All of it is one transaction. What is there already stays as it is: queries are known by their
fingerprints, remedies by what they change, all else by where it was made.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import msgspec
from sqlalchemy import Connection, Table, insert, select, update

from humble_ledger.core.entries import CaptureBody
from humble_ledger.core.remedies.foreign import shown_as_done
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.errors import UnreadableInput
from humble_ledger.ledger import tables as t
from humble_ledger.ledger import usages
from humble_ledger.ledger.bodies import decoded, encoded
from humble_ledger.ledger.bundles import records as r
from humble_ledger.ledger.bundles.naming import renamed_remedy, renamed_replay, renamed_trial
from humble_ledger.ledger.growths import keep_growth
from humble_ledger.ledger.ids import Kind, format_id, parse_id
from humble_ledger.ledger.remedies import with_older_predictions
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.shelf import TABLES, add_event, new_id
from humble_ledger.ledger.store.sql import as_json, insert_many

_ENDED = ("done", "stopped")
_ONE = {"queries": "query", "remedies": "remedy"}
_AT_ONCE = 5000
_LATER = ("proposed", "tried", "dropped", "kept")


@dataclass(frozen=True, slots=True)
class PutIn:
    """How many records of each kind were new, and how many were there already."""

    new: Mapping[str, int]
    known: Mapping[str, int]


def put(ledger: Ledger, records: Iterable[tuple[str, Any]], words: str) -> PutIn:
    """Put records into a ledger; ``words`` say in its history where they came from.

    Raises:
        UnreadableInput: a record names another one that is not there.
    """
    with ledger.store.writing() as c:
        putting = _Putting(c, ledger.uid)
        for name, record in records:
            getattr(putting, f"put_{name}")(record)
        putting.finish()
        if putting.new:
            listed = ", ".join(
                f"{count:,} {name if count != 1 else _ONE.get(name, name[:-1])}"
                for name, count in sorted(putting.new.items())
            )
            add_event(c, "ledger", f"imported {listed} from {words}")
    return PutIn(dict(putting.new), dict(putting.known))


@dataclass(slots=True)
class _Putting:
    """One act of putting in; ``ids`` has for each id of the bundle the one of this ledger."""

    c: Connection
    uid: str
    ids: dict[str, str] = field(default_factory=dict)
    new: Counter[str] = field(default_factory=Counter)
    known: Counter[str] = field(default_factory=Counter)
    _clients: dict[r.Client, int] = field(default_factory=dict)
    _wordings: dict[tuple[int, str], int] = field(default_factory=dict)
    # Of each kind of what captures have, the pairs of query and capture that had some before.
    _there: dict[str, set[tuple[int, int]]] = field(default_factory=dict)
    _sources: dict[int, str] = field(default_factory=dict)
    _sums: dict[str, dict[int, usages.Summed]] = field(default_factory=dict)
    _waiting: dict[str, tuple[Table, list[Mapping[str, Any]]]] = field(default_factory=dict)

    # Entries by where they were made

    def _number(self, id_: str | None, kind: Kind) -> int | None:
        """The number here of an id of the bundle.

        Raises:
            UnreadableInput: nothing of that id came before.
        """
        if id_ is None:
            return None
        here = parse_id(self.ids.get(id_, ""))
        if here is None or here[0] is not kind:
            raise UnreadableInput(
                f'The bundle names "{id_}", which is not in it.',
                "It was cut or changed; have it exported anew.",
            )
        return here[1]

    def _required(self, id_: str, kind: Kind) -> int:
        number = self._number(id_, kind)
        assert number is not None
        return number

    def _here(self, id_: str) -> str:
        return self.ids.get(id_, "")

    def _known_number(self, kind: Kind, origin: r.Origin) -> int | None:
        uid, number = origin
        table = TABLES[kind]
        if uid == self.uid:
            found = self.c.execute(select(table.c.id).where(table.c.id == number)).scalar()
            return int(found) if found is not None else None
        i = t.imported.c
        wanted = select(i.here).where(i.uid == uid, i.kind == kind.value, i.number == number)
        found = self.c.execute(wanted).scalar()
        return int(found) if found is not None else None

    def _entry(
        self, name: str, kind: Kind, record: Any, values: Mapping[str, Any], known: int | None
    ) -> int:
        """Put an entry in unless it is known; remember its id and where it was made."""
        number = known
        if number is None:
            number = new_id(self.c.execute(insert(TABLES[kind]).values(**values)))
            self.new[name] += 1
            if hasattr(record, "origin"):
                uid, there = record.origin
                self.c.execute(
                    insert(t.imported).values(uid=uid, kind=kind.value, number=there, here=number)
                )
        else:
            self.known[name] += 1
        self.ids[record.id] = format_id(kind, number)
        return number

    def put_targets(self, record: r.TargetRecord) -> None:
        found = self.c.execute(select(t.targets.c.id).where(t.targets.c.name == record.name))
        if found.scalar() is not None:
            self.known["targets"] += 1
            return
        self.new["targets"] += 1
        self.c.execute(
            insert(t.targets).values(
                at=record.at, name=record.name, url=record.url, engine=record.engine,
                version=record.server_version, role=record.role,
            )
        )  # fmt: skip

    def put_captures(self, record: r.CaptureRecord) -> None:
        try:
            msgspec.convert(record.told, CaptureBody)
        except msgspec.ValidationError as error:
            raise UnreadableInput(
                f"What the file tells of its capture {record.id} cannot be read: {error}.",
                "Have it exported again; nothing was taken in.",
            ) from error
        known = self._known_number(Kind.CAPTURE, record.origin)
        number = self._entry(
            "captures", Kind.CAPTURE, record,
            {
                "at": record.at, "source": record.source, "place": record.place,
                "first_run": record.first_run, "last_run": record.last_run, "kept": record.kept,
                "body": msgspec.json.encode(record.told),
            },
            known,
        )  # fmt: skip
        self._sources[number] = record.source

    def put_queries(self, record: r.QueryRecord) -> None:
        q, fingerprint = t.queries.c, record.fingerprint
        same = select(q.id).where(q.fingerprint == fingerprint, q.text == record.text)
        known = self.c.execute(same).scalar()
        if known is None:
            # By its text: a fingerprint may be claimed, and captures would add to whatever has it.
            fingerprint = normalise(record.text).fingerprint
            known = self.c.execute(select(q.id).where(q.fingerprint == fingerprint)).scalar()
        self._entry(
            "queries", Kind.QUERY, record,
            {
                "at": record.at, "fingerprint": fingerprint, "text": record.text,
                "tables": record.tables, "cost": record.cost,
            },
            known,
        )  # fmt: skip

    def put_plans(self, record: r.PlanRecord) -> None:
        self._entry(
            "plans", Kind.PLAN, record,
            {
                "at": record.at, "query_id": self._number(record.query, Kind.QUERY),
                "statement": record.statement, "parameters": record.parameters,
                "origin": record.read_for, "measured": int(record.plan.measured),
                "cost": record.cost, "body": encoded(record.plan),
                "document": msgspec.json.encode(record.document),
            },
            self._known_number(Kind.PLAN, record.origin),
        )  # fmt: skip

    def put_symptoms(self, record: r.SymptomRecord) -> None:
        s, symptom = t.symptoms.c, record.symptom
        places = {
            "query_id": self._number(record.query, Kind.QUERY),
            "plan_id": self._number(record.plan, Kind.PLAN),
            "capture_id": self._number(record.capture, Kind.CAPTURE),
        }
        known = self._known_number(Kind.SYMPTOM, record.origin)
        if known is None:  # found by both, of one plan or one schema
            same = select(s.id).where(s.name == symptom.name, s.node == symptom.node)
            same = same.where(s.subject == record.subject)
            for column, number in places.items():
                same = same.where(s[column].is_not_distinct_from(number))
            known = self.c.execute(same).scalar()
        self._entry(
            "symptoms", Kind.SYMPTOM, record,
            {
                **places, "at": record.at, "name": symptom.name, "node": symptom.node,
                "subject": record.subject, "body": encoded(symptom),
            },
            known,
        )  # fmt: skip

    def put_remedies(self, record: r.RemedyRecord) -> None:
        remedy = shown_as_done(renamed_remedy(record.remedy, self._here))
        change = "\n".join(remedy.apply)
        row = self.c.execute(select(t.remedies).where(t.remedies.c.change == change)).first()
        number = self._entry(
            "remedies", Kind.REMEDY, record,
            {
                "at": record.at, "type": remedy.type.value, "change": change,
                "status": record.status, "body": encoded(remedy),
            },
            row.id if row is not None else None,
        )  # fmt: skip
        if row is None:
            return
        own = decoded(row.body, Remedy, format_id(Kind.REMEDY, number))
        merged = with_older_predictions(own, remedy)
        status = max(row.status, record.status, key=_LATER.index)
        if row.status in ("kept", "dropped"):
            status = row.status  # what was decided here stands
        if merged != own or status != row.status:
            self.c.execute(
                update(t.remedies)
                .where(t.remedies.c.id == number)
                .values(body=encoded(merged), status=status)
            )

    def put_trials(self, record: r.TrialRecord) -> None:
        body = None if record.trial is None else renamed_trial(record.trial, self._here)
        self._put_ended("trials", Kind.TRIAL, record, body)

    def put_replays(self, record: r.ReplayRecord) -> None:
        body = None if record.replay is None else renamed_replay(record.replay, self._here)
        self._put_ended("replays", Kind.REPLAY, record, body)

    def _put_ended(
        self, name: str, kind: Kind, record: r.TrialRecord | r.ReplayRecord, body: object | None
    ) -> None:
        """Something that ran on a target and has ended, so that no mark of it is there any more."""
        # What is said to run would be looked for on a target, and tidied up there.
        status = record.status if record.status in _ENDED else _ENDED[-1]
        values = {
            "at": record.at, "target": record.target, "status": status, "mark": "",
            "process": "", "body": encoded(body) if body is not None else None,
        }  # fmt: skip
        self._entry(name, kind, record, values, self._known_number(kind, record.origin))

    def put_settlements(self, record: r.SettlementRecord) -> None:
        trial, s = self._required(record.trial, Kind.TRIAL), t.settlements.c
        same = select(s.id).where(s.trial_id == trial, s.at == record.at)
        if self.c.execute(same).scalar() is not None:
            self.known["settlements"] += 1
            return
        self.new["settlements"] += 1
        self.c.execute(
            insert(t.settlements).values(
                at=record.at, trial_id=trial, decision=record.decision, reason=record.reason,
                files=record.files,
            )
        )  # fmt: skip

    def put_notes(self, record: r.NoteRecord) -> None:
        subject = self.ids.get(record.subject)
        if subject is None:
            return
        n = t.notes.c
        same = select(n.id).where(n.subject == subject, n.at == record.at, n.text == record.text)
        if self.c.execute(same).scalar() is not None:
            self.known["notes"] += 1
            return
        self.new["notes"] += 1
        values = msgspec.structs.asdict(record)
        del values["version"]
        self.c.execute(insert(t.notes).values(**{**values, "subject": subject}))

    def put_growths(self, record: r.GrowthRecord) -> None:
        query, g = self._required(record.query, Kind.QUERY), t.growths.c
        there = self.c.execute(select(g.at).where(g.query_id == query)).scalar()
        if there is not None and there >= record.at:
            self.known["growths"] += 1
            return
        self.new["growths"] += 1
        keep_growth(self.c, query, record.at, record.curve)

    # What captures have of queries

    def _place(self, name: str, table: Table, query: str, capture: str) -> tuple[int, int] | None:
        """Query and capture here; None when the ledger had these before."""
        numbers = self._required(query, Kind.QUERY), self._required(capture, Kind.CAPTURE)
        if name not in self._there:
            pairs = select(table.c.query_id, table.c.capture_id).distinct()
            self._there[name] = {(row[0], row[1]) for row in self.c.execute(pairs)}
        if numbers in self._there[name]:
            self.known[name] += 1
            return None
        self.new[name] += 1
        return numbers

    def put_runs(self, record: r.RunRecord) -> None:
        if record.capture is None:
            return
        place = self._place("runs", t.runs, record.query, record.capture)
        if place is None:
            return
        self._add(
            t.runs,
            {
                "query_id": place[0], "capture_id": place[1],
                "wording_id": self._wording(place[0], record.wording),
                "client_id": self._client(record.client), "started_at": record.started_at,
                "duration_ms": record.duration_ms, "rows": record.rows,
                "literals": as_json(record.literals), "parameters": as_json(record.parameters),
                "session": record.session,
            },
        )  # fmt: skip

    def put_periods(self, record: r.PeriodRecord) -> None:
        place = self._place("periods", t.periods, record.query, record.capture)
        if place is None:
            return
        self._add(
            t.periods,
            {
                "query_id": place[0], "capture_id": place[1],
                "client_id": self._client(record.client), "first_at": record.first_at,
                "last_at": record.last_at, "calls": record.calls, "timed": record.timed,
                "total_ms": record.total_ms, "squares_ms2": record.squares_ms2,
                "max_ms": record.max_ms, "durations": record.durations,
                "work": None if record.work is None else as_json(record.work),
            },
        )  # fmt: skip
        by_query = self._sums.setdefault(self._sources[place[1]], {})
        by_query.setdefault(place[0], usages.Summed()).add(record)

    def put_senders(self, record: r.SenderRecord) -> None:
        self._put_plain("senders", t.senders, record)

    def put_tags(self, record: r.TagRecord) -> None:
        self._put_plain("tags", t.tags, record)

    def put_waits(self, record: r.WaitRecord) -> None:
        self._put_plain("waits", t.waits, record)

    def put_incidents(self, record: r.IncidentRecord) -> None:
        values = msgspec.structs.asdict(record)
        capture = self._required(record.capture, Kind.CAPTURE)
        i = t.incidents.c
        same = select(i.id).where(
            i.capture_id == capture, i.at == record.at, i.kind == record.kind,
            i.session == record.session, i.detail == record.detail,
        )  # fmt: skip
        if self.c.execute(same).scalar() is not None:
            self.known["incidents"] += 1
            return
        self.new["incidents"] += 1
        for name in ("version", "query", "capture"):
            del values[name]
        query = self._number(record.query, Kind.QUERY)
        self.c.execute(insert(t.incidents).values(query_id=query, capture_id=capture, **values))

    def _put_plain(self, name: str, table: Table, record: Any) -> None:
        place = self._place(name, table, record.query, record.capture)
        if place is None:
            return
        values = msgspec.structs.asdict(record)
        for each in ("version", "query", "capture"):
            del values[each]
        self._add(table, {"query_id": place[0], "capture_id": place[1], **values})

    def _add(self, table: Table, values: Mapping[str, Any]) -> None:
        """A row among many: they come by the million, and are put in some thousand at a time."""
        waiting = self._waiting.setdefault(table.name, (table, []))[1]
        waiting.append(values)
        if len(waiting) >= _AT_ONCE:
            self._put_waiting(table, waiting)

    def _put_waiting(self, table: Table, waiting: list[Mapping[str, Any]]) -> None:
        if waiting:
            rows = (tuple(values.values()) for values in waiting)
            insert_many(self.c, table, list(waiting[0]), rows)
            waiting.clear()

    def _client(self, client: r.Client) -> int:
        number = self._clients.get(client)
        if number is None:
            columns = dict(zip(("user", "database", "application"), client, strict=True))
            number = self.c.execute(select(t.clients.c.id).filter_by(**columns)).scalar()
            if number is None:
                number = new_id(self.c.execute(insert(t.clients).values(**columns)))
            self._clients[client] = number
        return number

    def _wording(self, query: int, text: str) -> int:
        number = self._wordings.get((query, text))
        if number is None:
            w = t.wordings.c
            wanted = select(w.id).where(w.query_id == query, w.text == text)
            number = self.c.execute(wanted).scalar()
            if number is None:
                made = insert(t.wordings).values(query_id=query, text=text)
                number = new_id(self.c.execute(made))
            self._wordings[query, text] = number
        return number

    def finish(self) -> None:
        """Put in what waits, and add what came to the sums that rankings go by."""
        for table, waiting in self._waiting.values():
            self._put_waiting(table, waiting)
        for source, sums in self._sums.items():
            usages.keep(self.c, source, sums)
