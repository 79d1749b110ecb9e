"""The engines: from a URL to the one that understands it, to its plans and to its logs.

Our own are listed here. An engine of another package is found through the entry point group
``humble_ledger.engines``, whose names are URL schemes and whose objects make an `Engine`; a plan
format without an engine through ``humble_ledger.plan_formats``, whose objects make a `PlanReader`.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from importlib import import_module
from importlib.metadata import EntryPoint, entry_points
from typing import TYPE_CHECKING, Any

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.engines.contract import (
    HOLLOW_SCHEME,
    Engine,
    LogFormat,
    PlanFormat,
    complete,
)
from humble_ledger.errors import UnreadableInput, WrongUsage

if TYPE_CHECKING:
    from humble_ledger.engines.recorded.noting import Notes

GROUP = "humble_ledger.engines"
# Plan formats of other packages that have no engine: names of classes, see `PlanReader`.
# Followed by a path it is the address of a recording.
RECORDED = "recorded:"
FORMATS = "humble_ledger.plan_formats"


@dataclass(frozen=True, slots=True)
class _OwnEngine:
    """An engine of this package. Its classes are imported when they are asked for: reading a
    plan from a file needs no driver.
    """

    name: str
    schemes: tuple[str, ...]
    engine: str
    plans: str
    logs: str = ""
    # Whether a bare word is an address of it, as a function.
    recognises: str = ""


_PACKAGE = "humble_ledger.engines"
_OWN = (
    # First, as their plans and logs have marks that no other server's have.
    _OwnEngine(
        name="mariadb",
        schemes=("mariadb",),
        engine=f"{_PACKAGE}.mysql.engine:MariadbEngine",
        plans=f"{_PACKAGE}.mysql.plans.format:MariadbPlans",
    ),
    _OwnEngine(
        name="mysql",
        schemes=("mysql",),
        engine=f"{_PACKAGE}.mysql.engine:MysqlEngine",
        plans=f"{_PACKAGE}.mysql.plans.format:MysqlPlans",
        logs=f"{_PACKAGE}.mysql.slow_log:LOGS",
    ),
    _OwnEngine(
        name="postgresql",
        # No scheme at all: "service=name", "host=... dbname=..." and the empty string (all from
        # the environment) are PostgreSQL's own habits.
        schemes=("", "postgres", "postgresql"),
        engine=f"{_PACKAGE}.postgresql.engine:PostgresEngine",
        plans=f"{_PACKAGE}.postgresql.plans.format:PostgresPlans",
        logs=f"{_PACKAGE}.postgresql.logs.formats:LOGS",
    ),
    _OwnEngine(
        name="sqlite",
        schemes=("sqlite",),
        engine=f"{_PACKAGE}.sqlite.engine:SqliteEngine",
        plans=f"{_PACKAGE}.sqlite.plans.format:SqlitePlans",
        recognises=f"{_PACKAGE}.sqlite.address:is_database",
    ),
)
# Servers that do not run here; their marks are theirs alone, so they are asked first.
_ELSEWHERE = (
    ("plan document", f"{_PACKAGE}.elsewhere.open_plan.format:OpenPlans"),
    ("sqlserver", f"{_PACKAGE}.elsewhere.sqlserver.format:SqlserverPlans"),
    ("soql", f"{_PACKAGE}.elsewhere.soql.format:SoqlPlans"),
    ("duckdb", f"{_PACKAGE}.elsewhere.duckdb.format:DuckdbPlans"),
    ("oracle", f"{_PACKAGE}.elsewhere.oracle.format:OraclePlans"),
    ("cockroachdb", f"{_PACKAGE}.elsewhere.cockroachdb.format:CockroachPlans"),
)


def engine_for(url: str) -> Engine:
    """The engine for a URL.

    Raises:
        WrongUsage: nobody understands this scheme.
    """
    if url.startswith(RECORDED):
        return _recorded(url)
    scheme = url.split("://", 1)[0] if "://" in url else ""
    for own in _OWN:
        bare = not scheme and own.recognises and _named(own.recognises)(url)
        if bare:
            scheme = own.schemes[0]
    for own in _OWN:
        if scheme in own.schemes:
            engine: Engine = _made(own.engine)
            return engine
    for engine in _others(scheme):
        return engine
    shown = f" that begin with {scheme}://" if scheme.isalnum() else " of this form"
    raise WrongUsage(
        f"No engine understands URLs{shown}.",
        "Give  postgresql://user@host/database,  mariadb://…  or  mysql://…,  or a file:  app.db",
    )


def _recorded(url: str) -> Engine:
    """The engine that answers from a recording, which knows other servers' formats and SQL."""
    from humble_ledger.engines.recorded.engine import RecordedEngine  # noqa: PLC0415

    found: Engine = RecordedEngine(url, plans_of_any, dialect_of)
    return found


def dialect_of(engine: str) -> Dialect:
    """The SQL of an engine of ours; else what the plan format of such servers says of it."""
    own = next((own for own in _OWN if own.name == engine), None)
    found: Dialect = (
        _made(own.engine).dialect if own is not None
        else getattr(plans_of_any(engine), "dialect", STANDARD)
    )  # fmt: skip
    return found


def noting(engine: Engine, *, mask: bool) -> tuple[Engine, Notes]:
    """An engine that writes down what its targets answer, and what it has written so far."""
    from humble_ledger.engines.recorded.noting import Notes, NotingEngine  # noqa: PLC0415

    notes = Notes(mask=engine.plans.masked if mask else None)
    found: Engine = NotingEngine(engine, notes)
    return found, notes


def is_address(words: str) -> bool:
    """Whether words are the address of a target, and not a name that somebody gave it."""
    if "://" in words or "=" in words or words.startswith((HOLLOW_SCHEME, RECORDED)):
        return True
    return any(own.recognises and _named(own.recognises)(words) for own in _OWN)


def engines() -> list[Engine]:
    """Every engine, our own first."""
    return [*(_made(own.engine) for own in _OWN), *_others()]


def engine_of_files() -> Engine:
    """The engine that makes a copy of a target from files: so far one has such files."""
    return engine_for(HOLLOW_SCHEME)


def plan_formats() -> list[PlanFormat]:
    """How each kind of server writes plans, in the order in which a text should be tried."""
    return [
        *_others_formats(),
        *(_made(place) for _, place in _ELSEWHERE),
        *(_made(own.plans) for own in _OWN),
        *(complete(engine.plans) for engine in _others()),
    ]


def plans_of(engine: str) -> PlanFormat:
    """How the servers of an engine, known by the name that `Plan.engine` has, write plans.

    Raises:
        UnreadableInput: this engine is not installed.
    """
    places = [(own.name, own.plans) for own in _OWN] + list(_ELSEWHERE)
    for name, place in places:
        if name == engine:
            form: PlanFormat = _made(place)
            return form
    others = [*_others_formats(), *(complete(other.plans) for other in _others())]
    for form in others:
        if form.engine == engine:
            return form
    raise UnreadableInput(
        f"This is a plan of {engine}, and no engine of that name is installed here.",
        "Install the package it came with.",
    )


def plans_of_any(engine: str) -> PlanFormat:
    """The same; what a plan document has of a server that nobody here knows is read by itself."""
    try:
        return plans_of(engine)
    except UnreadableInput:
        return plans_of("plan document")


def _others_formats() -> Iterator[PlanFormat]:
    """The plan formats of other packages."""
    for entry in _entries(FORMATS):
        yield complete(entry.load()())


def log_formats() -> list[LogFormat]:
    """The forms in which servers write their logs, in the order in which they should be tried."""
    own = [form for each in _OWN if each.logs for form in _named(each.logs)]
    return [*own, *(form for engine in _others() for form in getattr(engine, "logs", ()))]


@cache
def _entries(group: str) -> tuple[EntryPoint, ...]:
    """What other packages offer; looking for it reads a file of every package there is."""
    return tuple(entry_points(group=group))


def _made(place: str) -> Any:
    """An object of a class that is given as "module:Class"."""
    return _named(place)()


def _named(place: str) -> Any:
    module, _, name = place.partition(":")
    return getattr(import_module(module), name)


def _others(scheme: str = "") -> Iterator[Engine]:
    """The engines of other packages; of one scheme, when one is given."""
    for entry in _entries(GROUP):
        if scheme in ("", entry.name):
            engine: Engine = entry.load()()
            yield engine
