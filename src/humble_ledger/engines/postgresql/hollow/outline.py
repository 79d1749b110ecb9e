"""A target in outline: what a hollow needs to be used, and what tells whether it is still true.

Read in one look, in some milliseconds: nothing is written on the target, and no lock is taken
beyond what reading the catalogue takes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from hashlib import blake2b

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated

SYSTEM_SCHEMAS = ("pg_catalog", "information_schema", "pg_toast")
# What the planner heeds that is in none of its own categories of settings.
_OTHER_SETTINGS = (
    "work_mem hash_mem_multiplier maintenance_work_mem max_parallel_workers_per_gather "
    "max_parallel_workers parallel_leader_participation temp_buffers jit jit_above_cost "
    "jit_inline_above_cost jit_optimize_above_cost DateStyle IntervalStyle TimeZone "
    "transform_null_equals bytea_output standard_conforming_strings backslash_quote "
    "array_nulls extra_float_digits row_security"
).split()

_DATABASE_SQL = """
SELECT pg_encoding_to_char(d.encoding), d.datcollate, d.datctype,
       coalesce(to_jsonb(d) ->> 'datlocprovider', 'c'),
       coalesce(to_jsonb(d) ->> 'datlocale', to_jsonb(d) ->> 'daticulocale', ''),
       current_setting('block_size')::int, current_setting('server_version_num')::int
FROM pg_database d WHERE d.datname = current_database()
"""
_RELATIONS_SQL = """
SELECT n.nspname, c.relname, c.relkind::text, coalesce(a.amname, ''),
       CASE WHEN c.relkind IN ('r', 'm', 'i') THEN pg_relation_size(c.oid) ELSE 0 END
           / current_setting('block_size')::int,
       c.relpages, c.reltuples, c.relallvisible, row_security_active(c.oid),
       coalesce(tn.nspname, ''), coalesce(t.relname, '')
FROM pg_class c
JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_am a ON a.oid = c.relam
LEFT JOIN pg_index i ON i.indexrelid = c.oid
LEFT JOIN pg_class t ON t.oid = i.indrelid
LEFT JOIN pg_namespace tn ON tn.oid = t.relnamespace
WHERE c.relkind IN ('r', 'm', 'i', 'p', 'I', 'f') AND c.relpersistence <> 't'
  AND n.nspname <> ALL(%s) AND n.nspname NOT LIKE 'pg_temp%%'
  -- What an extension makes is there with its rows, as soon as it is.
  AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass
                    AND d.objid = coalesce(i.indrelid, c.oid) AND d.deptype = 'e')
ORDER BY 1, 2
"""
# Raised when a hollow of the same target would be made otherwise: kept ones are made anew.
_FORM = 7
# What changes with rows written to a table, and with new statistics of it.
_WRITTEN_SQL = """
SELECT schemaname, relname, concat_ws(',', n_tup_ins, n_tup_upd, n_tup_del,
    last_analyze, last_autoanalyze, last_vacuum, last_autovacuum)
FROM pg_stat_user_tables
"""
_CATALOGUES = (
    ("pg_class", "oid"), ("pg_attribute", "attrelid"), ("pg_index", "indexrelid"),
    ("pg_constraint", "oid"), ("pg_type", "oid"), ("pg_proc", "oid"), ("pg_rewrite", "oid"),
    ("pg_enum", "oid"), ("pg_statistic_ext", "oid"), ("pg_policy", "oid"),
)  # fmt: skip
# What changes with any change of the schema.
_CHANGES_SQL = "SELECT " + ", ".join(
    f"(SELECT concat(count(*), ':', sum(hashtext(xmin::text || {key})::bigint)) "  # noqa: S608
    f"FROM {name} WHERE {key} >= 16384)"
    for name, key in _CATALOGUES
)
_SETTINGS_SQL = """
SELECT name, current_setting(name) FROM pg_settings WHERE context IN ('user', 'superuser')
AND (category LIKE 'Query Tuning%%' OR name = ANY(%s)) ORDER BY 1
"""


@dataclass(frozen=True, slots=True)
class Relation:
    """One table or index: its place, kind (`pg_class.relkind`), access method, and sizes.

    ``pages`` is the length of its file, the others are what the catalogue says. Of a ``guarded``
    table the target's user does not see every row. An index names the table it is of.
    """

    schema: str
    name: str
    kind: str
    method: str
    pages: int
    catalogue_pages: int
    rows: float
    all_visible: int
    guarded: bool
    table: tuple[str, str]

    @property
    def of(self) -> tuple[str, str]:
        """The table by schema and name: itself, or that which it is an index of."""
        return self.table if self.kind in "iI" else (self.schema, self.name)


@dataclass(frozen=True, slots=True)
class Database:
    """The encoding and the order of texts of the target's database, and its version."""

    encoding: str
    collate: str
    ctype: str
    provider: str
    locale: str
    page_bytes: int
    version: int


@dataclass(frozen=True, slots=True)
class Outline:
    """What a hollow needs to be used, and what tells whether it is still true.

    ``path`` is where the target's user looks for names; ``fingerprint`` changes with the schema
    and with settings. ``contents`` has, for each table by its quoted name, what changes with its
    size and those of its indexes, with each change of its rows and each gathering of statistics.
    """

    database: Database
    settings: tuple[tuple[str, str], ...]
    path: str
    relations: tuple[Relation, ...]
    fingerprint: str
    contents: Mapping[str, str]


_UNCOUNTED_SQL = """
SELECT set_config('track_counts', 'off', true) WHERE current_setting('is_superuser') = 'on'
"""


@contextmanager
def one_look(connection: Connection) -> Iterator[None]:
    """One snapshot of a target, for all that is read of it."""
    with translated():
        connection.execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
        connection.execute(_UNCOUNTED_SQL)
    try:
        yield
    finally:
        with suppress(psycopg.Error):
            connection.rollback()


def read_outline(connection: Connection, user: str) -> Outline:
    """Sizes and settings, inside `one_look`; some milliseconds."""
    with translated():
        row = connection.execute(_DATABASE_SQL).fetchone()
        assert row is not None
        database = Database(*row)
        settings = _settings(connection)
        relations = relations_of(connection)
        changes = connection.execute(_CHANGES_SQL).fetchone()
        written = connection.execute(_WRITTEN_SQL).fetchall()
    path = connection.users_path.replace('"$user"', sql.Identifier(user).as_string(None))
    standing = [(r.schema, r.name, r.kind, r.method, r.guarded, r.table) for r in relations]
    found = _digest((_FORM, database, settings, path, standing, changes))
    return Outline(database, settings, path, relations, found, _contents(relations, written))


def _contents(relations: Sequence[Relation], written: Sequence[Sequence[object]]) -> dict[str, str]:
    counters = {(str(schema), str(name)): counted for schema, name, counted in written}
    sizes: dict[tuple[str, str], list[object]] = {}
    for each in relations:
        sizes.setdefault(each.of, []).append(each)
    return {quoted(*table): _digest((sizes[table], counters.get(table))) for table in sorted(sizes)}


def _digest(seen: object) -> str:
    return blake2b(repr(seen).encode("utf-8", "surrogatepass"), digest_size=12).hexdigest()


def quoted(schema: str, name: str) -> str:
    """The name of a relation as no other one is written."""
    return sql.Identifier(schema, name).as_string(None)


def _settings(connection: Connection) -> tuple[tuple[str, str], ...]:
    rows = connection.execute(_SETTINGS_SQL, (_OTHER_SETTINGS,)).fetchall()
    return tuple((str(name), str(value)) for name, value in rows)


def known_settings(connection: Connection) -> frozenset[str]:
    """Those that a server of ours has of the planner's settings: no other is taken over.

    What a target calls so may be anything, and some settings have a server load a library.
    """
    rows = connection.execute(_SETTINGS_SQL, (_OTHER_SETTINGS,)).fetchall()
    return frozenset(str(name) for name, _ in rows)


def relations_of(connection: Connection) -> tuple[Relation, ...]:
    """Every table and index with its sizes; of one that was never analyzed, -1 rows."""
    rows = connection.execute(_RELATIONS_SQL, (list(SYSTEM_SCHEMAS),)).fetchall()
    return tuple(
        Relation(
            str(schema), str(name), str(kind), str(method), int(size),
            int(pages), float(count), int(visible), bool(guarded), (str(of_schema), str(of)),
        )
        for schema, name, kind, method, size, pages, count, visible, guarded, of_schema, of in rows
    )  # fmt: skip
