"""Statistics of columns together that are not there: what ANALYZE would find, by a sample.

The target is only read. The sample goes into a table of the hollow's that is analyzed and
dropped; what ANALYZE found of it is written down for the supposed statistics. How many groups
there are in all rows is then computed anew, since ANALYZE took the sample for the whole table
(the estimator of Haas and Stokes, JASA 93, 1998, as in `src/backend/statistics/mvdistinct.c`,
which also has the form of the stored figures).
"""

from __future__ import annotations

import contextlib
import struct
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from psycopg import sql

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.schema.quoting import fitting_name
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.expressions import Sampler
from humble_ledger.engines.postgresql.hollow.source import ExtendedStatistics, Relation
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.errors import TargetUnreachable

_SAMPLE = "humble_sample"
_OF_SAMPLE = "humble_sample_together"
_HEADER, _ITEM = struct.Struct("=III"), struct.Struct("=di")
_ATTRIBUTE = struct.Struct("=h")


@dataclass(slots=True)
class SupposedGroups:
    """The supposed statistics of one hollow; those of one explanation are there, no others."""

    admin: Connection
    sampler: Sampler
    owner: Callable[[], Connection]
    _known: dict[ColumnGroup, ExtendedStatistics] = field(default_factory=dict)
    _shown: dict[ColumnGroup, str] = field(default_factory=dict)

    def show(
        self, wanted: Iterable[ColumnGroup], relation: Callable[[TableName], Relation]
    ) -> None:
        """Let the planner know of these groups, and of no others.

        Raises:
            TargetUnreachable: no sample can be taken of a table.
            psycopg.Error: the columns are of types that have no such statistics.
        """
        groups = frozenset(wanted)
        gone, new = self._shown.keys() - groups, groups - self._shown.keys()
        if not gone and not new:
            return
        with contextlib.closing(self.owner()) as owner:
            for group in gone:
                name = sql.Identifier(group.table.schema, self._shown.pop(group))
                owner.execute(sql.SQL("DROP STATISTICS {}").format(name))
            for group in new:
                of = relation(group.table)
                if group not in self._known:
                    self._known[group] = self._learned(owner, group, of)
                self._make(owner, group)

    def _make(self, owner: Connection, group: ColumnGroup) -> None:
        found = self._known[group]
        owner.execute(
            sql.SQL("CREATE STATISTICS {} ON {} FROM {}").format(
                sql.Identifier(found.schema, found.name),
                sql.SQL(", ").join(map(sql.Identifier, group.columns)),
                sql.Identifier(group.table.schema, group.table.name),
            )
        )
        self._shown[group] = found.name
        StatisticsWriter(self.admin).extended([found], self.admin.info.server_version)

    def _learned(self, owner: Connection, group: ColumnGroup, of: Relation) -> ExtendedStatistics:
        rows = self.sampler.rows(of, group.columns)
        if not rows:
            raise TargetUnreachable(
                f"Statistics of {group.words} cannot be supposed: no rows of it can be read."
            )
        sample = sql.Identifier(group.table.schema, _SAMPLE)
        numbers = self._sampled(owner, group, rows, sample)
        try:
            name = (group.table.schema, _OF_SAMPLE)
            row = self.admin.execute(
                "SELECT d.stxdndistinct::bytea, d.stxddependencies::bytea, d.stxdmcv::bytea "
                "FROM pg_statistic_ext e JOIN pg_statistic_ext_data d ON d.stxoid = e.oid "
                "JOIN pg_namespace n ON n.oid = e.stxnamespace "
                "WHERE n.nspname = %s AND e.stxname = %s",
                name,
            ).fetchone()
            if row is None:
                raise TargetUnreachable(f"Nothing was found of {group.words} together.")
            distinct, dependencies, common = (None if v is None else bytes(v) for v in row)
            if distinct is not None:
                distinct = self._of_all_rows(owner, distinct, numbers, sample, of.rows)
        finally:
            owner.execute(sql.SQL("DROP TABLE {}").format(sample))
        own = fitting_name("_".join([group.table.name, *group.columns])[:50] + "_supposed")
        return ExtendedStatistics(
            group.table.schema, own, of.kind == "p", distinct, dependencies, common, False
        )

    def _sampled(
        self,
        owner: Connection,
        group: ColumnGroup,
        rows: Sequence[tuple[str | None, ...]],
        sample: sql.Identifier,
    ) -> dict[int, str]:
        """Fill and analyze a table whose columns have the numbers that they have in theirs."""
        place = sql.Identifier(group.table.schema, group.table.name).as_string(None)
        known = {
            str(name): (int(str(number)), str(type_))
            for name, number, type_ in owner.execute(
                "SELECT attname, attnum, format_type(atttypid, atttypmod) FROM pg_attribute "
                "WHERE attrelid = %s::regclass AND attname = ANY (%s) AND NOT attisdropped",
                (place, list(group.columns)),
            )
        }
        if missing := [c for c in group.columns if c not in known]:
            raise TargetUnreachable(f"{group.table} has no column {missing[0]}.")
        names = {number: name for name, (number, _) in known.items()}
        parts = [
            sql.SQL("{} {}").format(sql.Identifier(names[n]), sql.SQL(known[names[n]][1]))
            if n in names
            else sql.SQL("{} int").format(sql.Identifier(f"humble_{n}"))
            for n in range(1, max(names) + 1)
        ]
        owner.execute(sql.SQL("DROP TABLE IF EXISTS {}").format(sample))
        owner.execute(sql.SQL("CREATE TABLE {} ({})").format(sample, sql.SQL(", ").join(parts)))
        listed = sql.SQL(", ").join(map(sql.Identifier, group.columns))
        cast = sql.SQL(", ").join(
            sql.SQL("v.c{}::{}").format(sql.SQL(str(n)), sql.SQL(known[c][1]))
            for n, c in enumerate(group.columns)
        )
        given = sql.SQL(", ").join(sql.SQL("%s::text[]") for _ in group.columns)
        called = sql.SQL(", ".join(f"c{n}" for n in range(len(group.columns))))
        owner.execute(
            sql.SQL("INSERT INTO {} ({}) SELECT {} FROM unnest({}) AS v({})").format(
                sample, listed, cast, given, called
            ),
            [list(column) for column in zip(*rows, strict=True)],
        )
        owner.execute(
            sql.SQL("CREATE STATISTICS {} ON {} FROM {}").format(
                sql.Identifier(group.table.schema, _OF_SAMPLE), listed, sample
            )
        )
        owner.execute(sql.SQL("ANALYZE {}").format(sample))
        return names

    def _of_all_rows(
        self,
        owner: Connection,
        stored: bytes,
        names: dict[int, str],
        sample: sql.Identifier,
        rows: float,
    ) -> bytes:
        """The stored numbers of different groups, for all rows in place of the sample's."""
        found = []
        for _, attributes in parsed_distinct(stored):
            columns = sql.SQL(", ").join(sql.Identifier(names[a]) for a in attributes)
            row = owner.execute(
                sql.SQL(
                    "SELECT sum(n)::float8, count(*), count(*) FILTER (WHERE n = 1) "
                    "FROM (SELECT count(*) AS n FROM {} GROUP BY {}) g"
                ).format(sample, columns)
            ).fetchone()
            seen, different, once = (int(float(str(v))) for v in row or (1, 1, 0))
            many = KeySample(seen, seen, different, once, 0.0).distinct(max(rows, float(seen)))
            found.append((many, attributes))
        return written_distinct(stored, found)


def parsed_distinct(stored: bytes) -> list[tuple[float, tuple[int, ...]]]:
    """How many different groups there are of each combination of columns, by their numbers."""
    _, _, items = _HEADER.unpack_from(stored)
    found, place = [], _HEADER.size
    for _ in range(items):
        many, count = _ITEM.unpack_from(stored, place)
        place += _ITEM.size
        attributes = struct.unpack_from(f"={count}h", stored, place)
        place += count * _ATTRIBUTE.size
        found.append((many, attributes))
    return found


def written_distinct(stored: bytes, found: Sequence[tuple[float, tuple[int, ...]]]) -> bytes:
    """The same with other numbers."""
    parts = [stored[: _HEADER.size]]
    for many, attributes in found:
        parts.append(_ITEM.pack(many, len(attributes)))
        parts += [_ATTRIBUTE.pack(a) for a in attributes]
    return b"".join(parts)
