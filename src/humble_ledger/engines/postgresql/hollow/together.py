"""Statistics of columns together that are not there: what ANALYZE would find, by a sample.

The target is only read. The sample goes into a table of the hollow's that is analyzed and
dropped; what ANALYZE found of it is written down for the supposed statistics. How many groups
there are in all rows is then computed anew, since ANALYZE took the sample for the whole table
(the estimator of Haas and Stokes, JASA 93, 1998, as in `src/backend/statistics/mvdistinct.c`).
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from psycopg import sql

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.remedies.together import ColumnGroup
from humble_ledger.core.schema.quoting import fitting_name
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.expressions import Sampler
from humble_ledger.engines.postgresql.hollow.extended import distinct_items, stored_distinct
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.source import ExtendedStatistics
from humble_ledger.engines.postgresql.hollow.standing import Standing
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.errors import TargetUnreachable

MOST_COMMON = 100  # groups listed, as the server does by default
_SAMPLE = "humble_sample"
_OF_SAMPLE = "humble_sample_together"


@dataclass(slots=True)
class SupposedGroups:
    """The supposed statistics of one hollow; those of one explanation are there, no others."""

    standing: Standing
    sampler: Sampler
    _known: dict[ColumnGroup, ExtendedStatistics] = field(default_factory=dict)
    _shown: dict[ColumnGroup, str] = field(default_factory=dict)

    def show(self, wanted: Iterable[ColumnGroup]) -> None:
        """Let the planner know of these groups, and of no others.

        Raises:
            TargetUnreachable: no sample can be taken of a table.
            psycopg.Error: the columns are of types that have no such statistics.
        """
        groups = frozenset(wanted)
        gone, new = self._shown.keys() - groups, groups - self._shown.keys()
        if not gone and not new:
            return
        with contextlib.closing(self.standing.owner()) as owner:
            for group in gone:
                name = sql.Identifier(group.table.schema, self._shown.pop(group))
                owner.execute(sql.SQL("DROP STATISTICS {}").format(name))
            for group in new:
                of = self.standing.relation(group.table)
                if group not in self._known:
                    self._known[group] = self.learned(owner, group, of)
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
        StatisticsWriter(self.standing.admin).extended(
            [found], self.standing.admin.info.server_version
        )

    def learned(self, owner: Connection, group: ColumnGroup, of: Relation) -> ExtendedStatistics:
        """What ANALYZE would find of a group, under a name of its own.

        Raises:
            TargetUnreachable: no sample can be taken of its table.
            psycopg.Error: the columns are of types that have no such statistics.
        """
        rows = self.sampler.rows(of, group.columns)
        if not rows:
            raise TargetUnreachable(
                f"Statistics of {group.words} cannot be supposed: no rows of it can be read."
            )
        sample = sql.Identifier(group.table.schema, _SAMPLE)
        numbers = self._sampled(owner, group, rows, sample, of.rows)
        try:
            name = (group.table.schema, _OF_SAMPLE)
            row = self.standing.admin.execute(
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
            group.table.schema, own, of.kind == "p", distinct, dependencies, common
        )

    def _sampled(
        self,
        owner: Connection,
        group: ColumnGroup,
        rows: Sequence[tuple[str | None, ...]],
        sample: sql.Identifier,
        rows_of_all: float,
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
        given = sql.SQL(", ".join(f"${n}::text[]" for n in range(1, len(group.columns) + 1)))
        called = sql.SQL(", ".join(f"c{n}" for n in range(len(group.columns))))
        with UserCursor(owner) as cursor:  # a name may have % in it
            cursor.execute(
                sql.SQL("INSERT INTO {} ({}) SELECT {} FROM unnest({}) AS v({})").format(
                    sample, listed, cast, given, called
                ),
                [list(column) for column in zip(*rows, strict=True)],
            )
        name = sql.Identifier(group.table.schema, _OF_SAMPLE)
        common = self._common(owner, listed, sample, len(rows), rows_of_all)
        kinds = sql.SQL("" if common else "(ndistinct, dependencies)")
        owner.execute(
            sql.SQL("CREATE STATISTICS {} {} ON {} FROM {}").format(name, kinds, listed, sample)
        )
        if common:
            owner.execute(
                sql.SQL("ALTER STATISTICS {} SET STATISTICS {}").format(
                    name, sql.SQL(str(min(common, MOST_COMMON)))
                )
            )
        owner.execute(sql.SQL("ANALYZE {}").format(sample))
        return names

    def _common(
        self,
        owner: Connection,
        listed: sql.Composed,
        sample: sql.Identifier,
        seen: int,
        rows: float,
    ) -> int:
        """How many groups are common enough to be listed, if the sample is of so many rows.

        The rule of `get_mincount_for_mcv_list` in `src/backend/statistics/mcv.c`: the estimate of
        a group's share must be likely to be within a fifth.
        """
        left = max(0.0, rows - seen)
        least = seen * left / (left + 0.04 * seen * (rows - 1)) if rows > 1 else 0.0
        row = owner.execute(
            sql.SQL(
                "SELECT count(*) FROM (SELECT count(*) AS n FROM {} GROUP BY {}) g WHERE n >= {}"
            ).format(sample, listed, sql.Literal(least))
        ).fetchone()
        return int(str(row[0])) if row is not None else 0

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
        for _, attributes in distinct_items(stored):
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
        return stored_distinct(found)
