"""Looking after a ledger: is every chain complete, and making room without breaking one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from sqlalchemy import Connection, delete, func, select

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.model import Remedy
from humble_ledger.core.replays.model import Replay
from humble_ledger.core.statements.wording import HOLE
from humble_ledger.core.symptoms.model import Symptom
from humble_ledger.core.trials.model import Trial
from humble_ledger.errors import LedgerUnreachable
from humble_ledger.ledger import tables as t
from humble_ledger.ledger import usages
from humble_ledger.ledger.bodies import decoded
from humble_ledger.ledger.bundles.naming import ids_of
from humble_ledger.ledger.ids import NAMES, Kind, format_id, parse_id
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.shelf import TABLES, add_event
from humble_ledger.ledger.store import Store
from humble_ledger.ledger.store.sql import listed

_BODIES: dict[Kind, type[Any]] = {
    Kind.PLAN: Plan, Kind.SYMPTOM: Symptom, Kind.REMEDY: Remedy, Kind.TRIAL: Trial,
    Kind.REPLAY: Replay,
}  # fmt: skip
_OF_CAPTURES = (t.runs, t.periods, t.senders, t.tags, t.waits, t.incidents)
_NEAR = 1e-6


def entries_of(ledger: Ledger) -> dict[str, int]:
    """How many entries there are of each kind."""
    counted = {"captures": t.captures, "queries": t.queries, "runs": t.runs, "plans": t.plans,
               "symptoms": t.symptoms, "remedies": t.remedies, "trials": t.trials,
               "settlements": t.settlements, "replays": t.replays, "notes": t.notes}  # fmt: skip
    with ledger.store.reading() as c:
        return {
            name: int(c.execute(select(func.count()).select_from(table)).scalar() or 0)
            for name, table in counted.items()
        }


def faults_of(ledger: Ledger, progress: Callable[[str], None] = lambda _: None) -> list[str]:
    """Everything that is wrong: a damaged file, what names entries that are not there, bodies that
    cannot be read, sums that do not add up. Nothing is changed.
    """
    with ledger.store.reading() as c:
        return list(_faults(ledger.store, c, progress))


def _faults(store: Store, c: Connection, progress: Callable[[str], None]) -> Iterator[str]:
    progress("looking at the tables")
    yield from store.faults(c)
    there = {kind: set(c.execute(select(table.c.id)).scalars()) for kind, table in TABLES.items()}

    def missing(id_: str) -> bool:
        parsed = parse_id(id_)
        return parsed is not None and parsed[1] not in there[parsed[0]]

    for kind, type_ in _BODIES.items():
        progress(f"reading every {NAMES[kind]}")
        table = TABLES[kind]
        for row in c.execute(select(table.c.id, table.c.body).order_by(table.c.id)):
            id_ = format_id(kind, row.id)
            if row.body is None:
                continue
            try:
                body = decoded(row.body, type_, id_)
            except LedgerUnreachable as error:
                yield error.message
                continue
            for name in sorted(_names_in(body)):
                if missing(name):
                    yield f"{id_} names {name}, which is not there"
    for row in c.execute(select(t.notes.c.id, t.notes.c.subject)):
        if missing(row.subject):
            yield f"a note is about {row.subject}, which is not there"
    ended = select(t.trials.c.id).where(t.trials.c.body.is_(None))
    for row in c.execute(select(t.settlements.c.trial_id).where(
            t.settlements.c.trial_id.in_(ended))):  # fmt: skip
        yield f"t{row.trial_id} is settled and has no result"
    progress("fitting values into their statements")
    yield from _unfitting(c)
    progress("adding up")
    yield from _sums(c)


def _unfitting(c: Connection) -> Iterator[str]:
    """Runs whose literals are not as many as their statement has places for."""
    text_ = t.wordings.c.text
    holes = func.length(text_) - func.length(func.replace(text_, HOLE, ""))
    wanted = (
        select(t.runs.c.query_id, func.count())
        .join(t.wordings, t.wordings.c.id == t.runs.c.wording_id)
        .where(func.json_array_length(t.runs.c.literals) != holes)
        .group_by(t.runs.c.query_id)
    )
    for query, count in c.execute(wanted):
        yield f"{count:,} runs of q{query} have more or fewer values than their statement"


def _names_in(body: object) -> set[str]:
    if isinstance(body, Trial):
        return ids_of(body) | {query for query, _ in body.failed if parse_id(query)}
    if isinstance(body, Remedy):
        return {*body.queries, *(p.query for p in body.predictions)}
    if isinstance(body, Replay):
        return set(body.remedies)
    return set()


def _sums(c: Connection) -> Iterator[str]:
    """Sums that rankings go by, against the periods they are made of."""
    p, u, k = t.periods.c, t.usages.c, t.captures.c
    wanted = (
        select(p.query_id, k.source, func.sum(p.calls), func.sum(p.total_ms))
        .join(t.captures, k.id == p.capture_id)
        .group_by(p.query_id, k.source)
    )
    by_period = {(row[0], row[1]): (row[2], row[3]) for row in c.execute(wanted)}
    kept = {
        (row.query_id, row.source): (row.calls, row.total_ms)
        for row in c.execute(select(u.query_id, u.source, u.calls, u.total_ms))
    }
    for key in sorted(by_period.keys() | kept.keys()):
        calls, ms = by_period.get(key, (0, 0.0))
        kept_calls, kept_ms = kept.get(key, (0, 0.0))
        if calls != kept_calls or abs(ms - kept_ms) > _NEAR * max(1.0, abs(ms)):
            yield (
                f"q{key[0]} by {key[1]}: {kept_calls:,} calls and {kept_ms:,.3f} ms are kept, and "
                f"its periods add up to {calls:,} and {ms:,.3f}"
            )


def prune(ledger: Ledger, before: str, *, only_ask: bool) -> dict[str, int]:
    """Remove what is older than a moment (as the ledger keeps it), and nobody's evidence.

    Captures go with all they have, and plans with their symptoms. Queries, remedies, trials and
    decisions stay, and so does all that is told of a query about which something was decided, every
    plan that a trial names, and the chief plan of each query. What goes is counted by kind.
    """
    with ledger.store.writing() as c:
        decided, plans = _evidence(c)
        captures = set(c.execute(select(t.captures.c.id).where(t.captures.c.at < before)).scalars())
        removed: dict[str, int] = {}
        for table in _OF_CAPTURES:
            gone = delete(table).where(table.c.capture_id.in_(listed(c, captures)))
            gone = gone.where(
                table.c.query_id.is_(None) | table.c.query_id.not_in(listed(c, decided))
            )
            removed[table.name] = c.execute(gone).rowcount
        old = select(t.plans.c.id, t.plans.c.query_id).where(t.plans.c.at < before)
        gone_plans = {
            row.id for row in c.execute(old) if row.id not in plans and row.query_id not in decided
        }
        by_plan = t.symptoms.c.plan_id.in_(listed(c, gone_plans))
        by_capture = t.symptoms.c.capture_id.in_(listed(c, captures)) & (
            t.symptoms.c.query_id.is_(None) | t.symptoms.c.query_id.not_in(listed(c, decided))
        )
        removed["symptoms"] = c.execute(delete(t.symptoms).where(by_plan | by_capture)).rowcount
        removed["plans"] = c.execute(
            delete(t.plans).where(t.plans.c.id.in_(listed(c, gone_plans)))
        ).rowcount
        removed["captures"] = _empty_captures(c, captures)
        used = select(t.runs.c.wording_id)
        c.execute(delete(t.wordings).where(t.wordings.c.id.not_in(used)))
        usages.rebuild(c)
        removed = {name: count for name, count in removed.items() if count}
        if only_ask:
            c.rollback()
        elif removed:
            told = ", ".join(f"{count:,} {name}" for name, count in sorted(removed.items()))
            add_event(c, "ledger", f"removed what is older than {before[:16]}: {told}")
    return removed


def _evidence(c: Connection) -> tuple[set[int], set[int]]:
    """The queries about which something was decided, and the plans that must stay."""
    decided: set[int] = set()
    plans: set[int] = set()
    settled = set(c.execute(select(t.settlements.c.trial_id)).scalars())
    for row in c.execute(select(t.trials.c.id, t.trials.c.body)):
        if row.body is None:
            continue
        for name in ids_of(decoded(row.body, Trial, format_id(Kind.TRIAL, row.id))):
            parsed = parse_id(name)
            if parsed is None:
                continue
            if parsed[0] is Kind.PLAN:
                plans.add(parsed[1])
            elif parsed[0] is Kind.QUERY and row.id in settled:
                decided.add(parsed[1])
    p = t.plans.c
    newest = select(func.max(p.id)).group_by(p.query_id, p.measured)
    return decided, plans | set(c.execute(newest).scalars())


def _empty_captures(c: Connection, captures: set[int]) -> int:
    """Remove those captures of which nothing is left."""
    used: set[int] = set()
    for table in (*_OF_CAPTURES, t.symptoms, t.counters):
        used |= set(c.execute(select(table.c.capture_id).distinct()).scalars())
    gone = captures - used
    return int(c.execute(delete(t.captures).where(t.captures.c.id.in_(listed(c, gone)))).rowcount)
