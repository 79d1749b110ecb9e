"""Filling a hollow: its database, the schema, the ends, sizes and statistics; no rows."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.ends import insert_ends, lacks_of_tables
from humble_ledger.engines.postgresql.hollow.expression_statistics import write_expressions
from humble_ledger.engines.postgresql.hollow.files import RelationFiles
from humble_ledger.engines.postgresql.hollow.heights import give_files
from humble_ledger.engines.postgresql.hollow.outline import (
    Database,
    known_settings,
)
from humble_ledger.engines.postgresql.hollow.policies import guard
from humble_ledger.engines.postgresql.hollow.refreshing import put_ends
from humble_ledger.engines.postgresql.hollow.schema import load
from humble_ledger.engines.postgresql.hollow.source import Source
from humble_ledger.engines.postgresql.hollow.standing import LIMITS, ROLE, heedless_owner, owner
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.errors import HumbleError

SETTINGS: Mapping[str, str] = {
    "autovacuum": "off", "wal_level": "minimal", "max_wal_senders": "0", "max_connections": "20",
    "shared_buffers": "16MB", "allow_system_table_mods": "on", "track_counts": "off",
    "max_parallel_maintenance_workers": "0", "max_worker_processes": "0", "huge_pages": "off",
    # Else a new index of a few pages is read into memory to be logged, and what is in memory hides
    # what is written to its file afterwards.
    "wal_skip_threshold": "0",
}  # fmt: skip


def dropped(cluster: Cluster, database: str) -> None:
    """Remove a hollow's database, if it is there."""
    with contextlib.closing(superuser(cluster, "postgres")) as admin:
        admin.execute(sql.SQL("DROP DATABASE IF EXISTS {}").format(sql.Identifier(database)))


def superuser(cluster: Cluster, database: str) -> Connection:
    """A connection that may change the catalogue."""
    return connect(cluster.url(database), LIMITS, mark="hollow", read_only=False)


def make_database(cluster: Cluster, place: str, wanted: Database) -> list[str]:
    """Make the database with the target's order of texts, or else without; and its role."""
    order = sql.SQL("LC_COLLATE {} LC_CTYPE {}").format(
        sql.Literal(wanted.collate), sql.Literal(wanted.ctype)
    )
    if wanted.provider == "i":
        order += sql.SQL(" LOCALE_PROVIDER icu ICU_LOCALE {}").format(sql.Literal(wanted.locale))
    elif wanted.provider == "b":
        order += sql.SQL(" LOCALE_PROVIDER builtin BUILTIN_LOCALE {}").format(
            sql.Literal(wanted.locale)
        )
    dropped(cluster, place)
    command = sql.SQL("CREATE DATABASE {} TEMPLATE template0 ENCODING {} {}")
    name, encoding = sql.Identifier(place), sql.Literal(wanted.encoding)
    with contextlib.closing(superuser(cluster, "postgres")) as admin:
        if admin.execute("SELECT 1 FROM pg_roles WHERE rolname = %s", (ROLE,)).fetchone() is None:
            admin.execute("CREATE ROLE hollow LOGIN NOSUPERUSER")
        try:
            admin.execute(command.format(name, encoding, order))
            return []
        except psycopg.Error:
            plain = sql.SQL("LC_COLLATE 'C' LC_CTYPE 'C'")
            admin.execute(command.format(name, encoding, plain))
    return [
        f"this machine has no order of texts {wanted.collate or wanted.locale}: ranges of texts "
        "and LIKE may be estimated otherwise"
    ]


def own(admin: Connection, place: str, settings: Sequence[tuple[str, str]]) -> None:
    """Give all to the role that may do nothing else, with the target's settings."""
    name = sql.Identifier(place)
    admin.execute(sql.SQL("ALTER DATABASE {} OWNER TO hollow").format(name))
    admin.execute("ALTER SCHEMA public OWNER TO hollow")
    known = known_settings(admin)
    for setting, value in settings:
        if setting not in known:
            continue
        with contextlib.suppress(psycopg.Error):  # another version has other settings
            admin.execute(
                sql.SQL("ALTER ROLE hollow IN DATABASE {} SET {} = {}").format(
                    name, sql.Identifier(setting), sql.Literal(value)
                )
            )


def fill(
    cluster: Cluster,
    place: str,
    path: str,
    admin: Connection,
    dumps: Sequence[list[str]],
    labels: Sequence[tuple[str, str, str, int]],
    source_of: Callable[[], Source],
) -> list[str]:
    """Schema, ends, sizes and statistics; what could not be carried over.

    ``path`` is where names are looked for, ``dumps`` are the statements that make the schema: what
    rows can go into, and what stands on them. ``source_of`` is asked once there are tables, and
    once again when all else is there.
    """
    before, after = dumps
    notes = []
    writer = StatisticsWriter(admin)
    # Whatever the schema brings may end the session, or refuse what comes after it.
    with translated(), contextlib.closing(owner(cluster, place, path)) as loader:
        refused = load(before, loader, admin, enumerated=lambda: writer.labels(labels))
        loader.execute("RESET ALL")
        failed = insert_ends(loader, source_of())
        emptied: set[tuple[str, str]] = set()
        refused += load(after, loader, admin, lambda e: _fewer_rows(loader, e, emptied))
        source = source_of()
        if emptied:
            parts = tuple(r for r in source.relations if r.of in emptied)
            with heedless_owner(cluster, place, path, admin) as putter:
                failed += put_ends(putter, replace(source, relations=parts))
        _reindex(loader, admin.execute(_LOOKED_INTO_SQL).fetchall())
        guarded = [(r.schema, r.name) for r in source.relations if r.guarded]
        notes += guard(loader, guarded, source.policies)
    admin.execute("UPDATE pg_constraint SET convalidated = true WHERE contype = 'f'")
    writer.sizes(source.relations)
    lost = writer.columns(source)
    lost += writer.extended(source.extended, admin.info.server_version)
    with contextlib.closing(owner(cluster, place, path)) as builder:
        lost += write_expressions(builder, admin, source.expressions)
    files = RelationFiles(cluster.data, cluster.account)
    give_files(files, admin, source.relations, source.heights)
    for what, reason in refused:
        notes.append(f"{what[:80]}: {reason}")
    return [*notes, *lacks_of_tables(failed, lost)]


# A key of a table in partitions is held against the rows when it is made, before version 18, and
# what was read of an index then hides what is written to its file.
_LOOKED_INTO_SQL = """
SELECT DISTINCT n.nspname, c.relname
FROM pg_constraint k JOIN pg_class whole ON whole.oid = k.conrelid AND whole.relkind = 'p'
CROSS JOIN LATERAL (SELECT coalesce(t.relid::oid, k.confrelid) FROM (SELECT) o
                    LEFT JOIN pg_partition_tree(k.confrelid) t ON true) AS of(oid)
JOIN pg_class c ON c.oid = of.oid AND c.relkind = 'r' JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE k.contype = 'f'
"""


def _reindex(loader: Connection, tables: Sequence[Sequence[object]]) -> None:
    for schema, table in tables:
        place = sql.Identifier(str(schema), str(table))
        loader.execute(sql.SQL("REINDEX TABLE {}").format(place))


def _fewer_rows(loader: Connection, error: psycopg.Error, emptied: set[tuple[str, str]]) -> bool:
    """Take away rows of ours that a key does not take.

    Of two that a unique index does not take one goes. What a table in partitions refers to must be
    there before version 18: the part is ``emptied``.
    """
    schema, table = error.diag.schema_name, error.diag.table_name
    if not table or not schema:
        return False
    place = sql.Identifier(schema, table)
    try:
        if isinstance(error, psycopg.errors.ForeignKeyViolation):
            emptied.add((schema, table))
            gone = loader.execute(sql.SQL("DELETE FROM ONLY {}").format(place))
        elif isinstance(error, psycopg.errors.UniqueViolation):
            last = sql.SQL("DELETE FROM {0} WHERE ctid = (SELECT max(ctid) FROM {0})")
            gone = loader.execute(last.format(place))
        else:
            return False
    except (psycopg.Error, HumbleError):
        return False
    return gone.rowcount > 0
