"""The ledger's tables.

Ids are whole numbers that are never used twice (AUTOINCREMENT); people see them with a
letter, q1, p1. What must be searched has a column; the rest of an entry is its `body`, the
JSON of the core's dataclass.
"""

from __future__ import annotations

from sqlalchemy import (
    JSON,
    BigInteger,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

metadata = MetaData()
# Whole numbers have 64 bits everywhere; only as INTEGER are SQLite's own row numbers meant.
_WHOLE = BigInteger().with_variant(Integer(), "sqlite")


def _table(name: str, *columns: Column[object] | UniqueConstraint | Index) -> Table:
    return Table(name, metadata, *columns, sqlite_autoincrement=True)


def _words(most: int) -> String:
    """Text of usually so many characters; nothing is cut or refused for being longer."""
    return String(most).with_variant(Text(), "postgresql")


def _id() -> Column[object]:
    return Column("id", _WHOLE, primary_key=True)


def _at() -> Column[object]:
    return Column("at", _words(32), nullable=False)  # ISO 8601 in UTC: it sorts as text


def _ref(name: str, table: str, nullable: bool = False) -> Column[object]:
    return Column(name, _WHOLE, ForeignKey(f"{table}.id"), nullable=nullable, index=True)


about = Table(
    "about",
    metadata,
    Column("key", _words(40), primary_key=True),
    Column("value", Text, nullable=False),
)
targets = _table(
    "targets",
    _id(),
    _at(),
    Column("name", _words(80), nullable=False, unique=True),
    Column("url", Text, nullable=False),  # never with a password
    Column("engine", _words(40), nullable=False),
    Column("version", _words(40), nullable=False),
    Column("role", _words(20), nullable=False),
)
captures = _table(
    "captures",
    _id(),
    _at(),
    Column("source", _words(20), nullable=False),
    Column("place", Text, nullable=False),
    Column("first_run", _words(32)),
    Column("last_run", _words(32)),
    Column("kept", _WHOLE, nullable=False),
    Column("body", LargeBinary, nullable=False),
)
queries = _table(
    "queries",
    _id(),
    _at(),
    Column("fingerprint", _words(16), nullable=False, unique=True),
    Column("text", Text, nullable=False),
    Column("tables", JSON, nullable=False),
    Column("cost", Float),  # the server's estimate in the newest plan
)
clients = _table(
    "clients",
    _id(),
    Column("user", _words(80), nullable=False),
    Column("database", _words(80), nullable=False),
    Column("application", _words(80), nullable=False),
    UniqueConstraint("user", "database", "application"),
)
wordings = _table(
    "wordings",  # a statement's text with holes for its literals; runs have what fills them
    _id(),
    _ref("query_id", "queries"),
    Column("text", Text, nullable=False),
)
runs = _table(
    "runs",  # examples with their values; what all runs took is in the periods
    _id(),
    _ref("query_id", "queries"),
    _ref("capture_id", "captures", nullable=True),
    _ref("wording_id", "wordings"),
    _ref("client_id", "clients"),
    Column("started_at", _words(32)),
    Column("duration_ms", Float),
    Column("rows", _WHOLE),
    Column("literals", JSON, nullable=False),
    Column("parameters", JSON, nullable=False),
    Column("session", _words(40), nullable=False),
)
periods = _table(
    "periods",  # the runs of a query by a client within a minute, or between two looks
    _id(),
    _ref("query_id", "queries"),
    _ref("capture_id", "captures"),
    _ref("client_id", "clients"),
    Column("first_at", _words(32)),
    Column("last_at", _words(32)),
    Column("calls", _WHOLE, nullable=False),
    Column("timed", _WHOLE, nullable=False),
    Column("total_ms", Float, nullable=False),
    Column("squares_ms2", Float, nullable=False),
    Column("max_ms", Float),
    Column("durations", Text, nullable=False),
    Column("work", JSON(none_as_null=True)),
)
usages = Table(
    "usages",  # the periods of a query summed up, as one kind of source saw it
    metadata,
    Column("query_id", _WHOLE, ForeignKey("queries.id"), primary_key=True),
    Column("source", _words(20), primary_key=True),
    Column("calls", _WHOLE, nullable=False),
    Column("timed", _WHOLE, nullable=False),
    Column("total_ms", Float, nullable=False),
    Column("squares_ms2", Float, nullable=False),
    Column("max_ms", Float),
    Column("p95_ms", Float),
    Column("rows", Float),
    Column("pages_read", Float),
    Column("durations", Text, nullable=False),
    Column("sums_only", _WHOLE, nullable=False),
    Column("work", JSON(none_as_null=True)),
    Column("first_at", _words(32)),
    Column("last_at", _words(32)),
    Index("ix_usages_by_time", "source", "total_ms"),
)
senders = _table(
    "senders",  # what came from which place of an application; see core.workload.origins
    _id(),
    _ref("query_id", "queries"),
    _ref("capture_id", "captures"),
    Column("code", Text, nullable=False),
    Column("function", Text, nullable=False),
    Column("route", Text, nullable=False),
    Column("calls", _WHOLE, nullable=False),
    Column("total_ms", Float, nullable=False),
    Column("max_ms", Float, nullable=False),
    Column("requests", _WHOLE, nullable=False),
    Column("most_in_one", _WHOLE, nullable=False),
)
incidents = _table(
    "incidents",
    _id(),
    _at(),
    _ref("query_id", "queries", nullable=True),
    _ref("capture_id", "captures"),
    Column("kind", _words(40), nullable=False),
    Column("session", _words(40), nullable=False),
    Column("amount", Float),
    Column("detail", Text, nullable=False),
)
counters = _table(
    "counters",  # the last look at a server's statistics; only the newest of a target is kept
    _id(),
    _ref("capture_id", "captures"),
    Column("target", Text, nullable=False),
    Column("body", LargeBinary, nullable=False),
)
waits = _table(
    "waits",  # what a query was seen waiting for when sampled
    _id(),
    _ref("query_id", "queries"),
    _ref("capture_id", "captures"),
    Column("kind", _words(40), nullable=False),
    Column("event", _words(80), nullable=False),
    Column("samples", _WHOLE, nullable=False),
    Column("total_ms", Float, nullable=False),
)
plans = _table(
    "plans",
    _id(),
    _at(),
    _ref("query_id", "queries", nullable=True),
    Column("statement", Text, nullable=False),
    Column("parameters", JSON, nullable=False),
    Column("origin", _words(20), nullable=False),  # read, trial, file
    Column("measured", _WHOLE, nullable=False),
    Column("cost", Float),
    Column("body", LargeBinary, nullable=False),
    Column("document", LargeBinary, nullable=False),  # the server's own words, as evidence
)
symptoms = _table(
    "symptoms",
    _id(),
    _at(),
    _ref("query_id", "queries", nullable=True),
    _ref("plan_id", "plans", nullable=True),  # of a plan, a capture's workload, or a schema
    _ref("capture_id", "captures", nullable=True),
    Column("name", _words(60), nullable=False),
    Column("node", _WHOLE, nullable=False),
    Column("subject", _words(300), nullable=False, server_default=""),  # of a target's schema
    Column("body", LargeBinary, nullable=False),
    UniqueConstraint("plan_id", "name", "node"),
)
remedies = _table(
    "remedies",
    _id(),
    _at(),
    Column("type", _words(20), nullable=False),
    Column("change", Text, nullable=False, unique=True),  # the same change is the same remedy
    Column("status", _words(20), nullable=False),
    Column("body", LargeBinary, nullable=False),
)
trials = _table(
    "trials",
    _id(),
    _at(),
    Column("target", Text, nullable=False),
    Column("status", _words(20), nullable=False),  # running, done, stopped, broken-off
    Column("mark", _words(40), nullable=False),
    Column("process", _words(120), nullable=False),  # host and pid that run it
    Column("body", LargeBinary),
)
creations = _table(
    "creations",
    _id(),
    _at(),
    _ref("trial_id", "trials"),
    Column("schema", _words(80), nullable=False),
    Column("name", _words(80), nullable=False),
    Column("removed_at", _words(32)),
)
replays = _table(
    "replays",
    _id(),
    _at(),
    Column("target", Text, nullable=False),
    Column("status", _words(20), nullable=False),  # running, done, stopped, broken-off
    Column("mark", _words(40), nullable=False),
    Column("process", _words(120), nullable=False),  # host and pid that run it
    Column("body", LargeBinary),
)
undoings = _table(
    "undoings",  # what takes a replay's change back, written down before the change is made
    _id(),
    _at(),
    _ref("replay_id", "replays"),
    Column("statement", Text, nullable=False),
    Column("done_at", _words(32)),
)
settlements = _table(
    "settlements",
    _id(),
    _at(),
    _ref("trial_id", "trials"),
    Column("decision", _words(10), nullable=False),
    Column("reason", Text, nullable=False),
    Column("files", JSON, nullable=False),
)
growths = _table(
    "growths",  # the newest study of a query's growth
    _id(),
    _at(),
    Column("query_id", _WHOLE, ForeignKey("queries.id"), nullable=False, unique=True),
    Column("body", LargeBinary, nullable=False),
)
events = _table(
    "events",
    _id(),
    _at(),
    Column("subject", _words(20), nullable=False),
    Column("words", Text, nullable=False),
    Column("person", _words(80), nullable=False, server_default=""),
    Column("machine", _words(120), nullable=False, server_default=""),
)
notes = _table(
    "notes",  # what people wrote to an entry, by its id
    _id(),
    _at(),
    Column("subject", _words(20), nullable=False, index=True),
    Column("text", Text, nullable=False),
    Column("person", _words(80), nullable=False),
    Column("machine", _words(120), nullable=False),
)
tags = _table(
    "tags",  # what comments of the statements told, as name and value; see core.workload.tags
    _id(),
    _ref("query_id", "queries"),
    _ref("capture_id", "captures"),
    Column("name", _words(80), nullable=False, index=True),
    Column("value", _words(200), nullable=False),
    Column("calls", _WHOLE, nullable=False),
    Column("total_ms", Float, nullable=False),
    Column("squares_ms2", Float, nullable=False),
    Column("max_ms", Float, nullable=False),
)
imported = Table(
    "imported",  # entries that came from another ledger: its uid, their kind and number there
    metadata,
    Column("uid", _words(40), primary_key=True),
    Column("kind", _words(1), primary_key=True),
    Column("number", _WHOLE, primary_key=True),
    Column("here", _WHOLE, nullable=False),
    Index("ix_imported_here", "kind", "here"),
)
positions = _table(
    "positions",
    _id(),
    Column("path", Text, nullable=False),  # as it was read last; the head is what tells logs apart
    Column("head", _words(16), nullable=False),
    Column("head_bytes", _WHOLE, nullable=False),
    Column("offset", _WHOLE, nullable=False),
    Column("waiting", LargeBinary),  # statements whose duration had not been logged yet
)
