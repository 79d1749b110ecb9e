"""The target's statistics, written into the catalogue of a hollow.

Source of the form: `src/include/catalog/pg_statistic.h`, the same for the servers 13 to 18.
Values of a type are read by the type's own function with a superuser's rights, so that only
types whose functions are the server's or an extension's are carried over; those of a domain are
kept as its base type, which the planner does not tell apart.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import replace

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.extended import (
    dependency_items,
    distinct_items,
    renumbered,
    stored_dependencies,
    stored_distinct,
)
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.source import (
    ColumnStatistics,
    ExtendedStatistics,
    Source,
)

_SIZES_SQL = """
UPDATE pg_class c SET relpages = v.pages, reltuples = v.rows, relallvisible = v.visible
FROM (SELECT * FROM unnest(%s::text[], %s::text[], %s::int[], %s::real[], %s::int[]))
     AS v(schema, name, pages, rows, visible)
JOIN pg_namespace n ON n.nspname = v.schema
WHERE c.relnamespace = n.oid AND c.relname = v.name
"""
# The column, the type its values are kept as, how that is compared, and the same of its elements.
_COLUMN_SQL = """
WITH RECURSIVE col AS (
    SELECT a.attrelid, a.attnum, COALESCE(%s::oid, a.atttypid) AS oid, a.attcollation AS collation
    FROM pg_attribute a
    WHERE a.attrelid = %s::regclass AND a.attname = %s AND NOT a.attisdropped
), base AS (
    SELECT col.oid, t.typtype, t.typbasetype FROM col JOIN pg_type t USING (oid)
    UNION ALL
    SELECT t.oid, t.typtype, t.typbasetype FROM base JOIN pg_type t ON t.oid = base.typbasetype
    WHERE base.typtype = 'd'
), kept AS (
    SELECT t.*, t.typanalyze::oid >= 16384 AS own FROM base JOIN pg_type t USING (oid)
    WHERE base.typtype <> 'd'
), element AS (
    SELECT e.* FROM kept JOIN pg_type e ON e.oid = kept.typelem
    WHERE kept.typcategory = 'A'
    UNION ALL
    SELECT t.* FROM kept JOIN pg_type t ON t.oid = 'text'::regtype WHERE kept.typname = 'tsvector'
)
SELECT col.attrelid::bigint, col.attnum, kept.oid::bigint, col.collation::bigint,
       kept.typtype::text, element.oid::bigint, element.typtype::text,
       element.typcollation::bigint, kept.own
FROM col, kept LEFT JOIN element ON true
"""
_OPERATORS_SQL = """
SELECT max(o.amopopr::bigint) FILTER (WHERE o.amopstrategy = 3),
       max(o.amopopr::bigint) FILTER (WHERE o.amopstrategy = 1)
FROM pg_type t
JOIN LATERAL (
    SELECT c.opcfamily, c.opcintype FROM pg_opclass c JOIN pg_am m ON m.oid = c.opcmethod
    WHERE m.amname = 'btree' AND c.opcdefault AND c.opcintype IN (
        t.oid,
        CASE t.typtype WHEN 'e' THEN 'anyenum'::regtype WHEN 'r' THEN 'anyrange'::regtype
             WHEN 'c' THEN 'record'::regtype END,
        CASE WHEN t.typcategory = 'A' THEN 'anyarray'::regtype END,
        -- Of several the preferred type's, as the server itself chooses: varchar is text, not char.
        (SELECT k.casttarget FROM pg_cast k JOIN pg_opclass d ON d.opcintype = k.casttarget
              AND d.opcdefault AND d.opcmethod = m.oid JOIN pg_type g ON g.oid = k.casttarget
         WHERE k.castsource = t.oid AND k.castmethod = 'b' AND k.castcontext = 'i'
         ORDER BY g.typispreferred DESC LIMIT 1))
    ORDER BY (c.opcintype = t.oid) DESC LIMIT 1
) f ON true
JOIN pg_amop o ON o.amopfamily = f.opcfamily AND o.amoplefttype = f.opcintype
     AND o.amoprighttype = f.opcintype
WHERE t.oid = %s
"""
_FIRST_OWN_OID = 16_384
_FLOAT8, _FLOAT8_LESS = 701, 672
_COMMON, _BOUNDS, _CORRELATION, _ELEMENTS, _ELEMENT_COUNTS, _RANGE_LENGTHS, _RANGE_BOUNDS = range(
    1, 8
)
_SLOTS = 5
_APART = 2_000_000_000  # from the numbers that a server has given to objects


class StatisticsWriter:
    """Writes into the catalogue of one hollow, as its superuser."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._operators: dict[int, tuple[int, int]] = {}

    def sizes(self, relations: Iterable[Relation]) -> None:
        """What the catalogue says of the sizes of tables and indexes."""
        kept = list(relations)
        self._connection.execute(
            _SIZES_SQL,
            (
                [r.schema for r in kept], [r.name for r in kept],
                [r.catalogue_pages for r in kept], [r.rows for r in kept],
                [r.all_visible for r in kept],
            ),
        )  # fmt: skip

    def columns(self, source: Source) -> list[str]:
        """The statistics of all columns; those that could not be written."""
        failed = []
        for each in source.statistics:
            try:
                if not self.column(each):
                    failed.append(f"{each.schema}.{each.table}.{each.column}")
            except psycopg.Error:
                failed.append(f"{each.schema}.{each.table}.{each.column}")
        return failed

    def labels(self, labels: Sequence[tuple[str, str, str, int]]) -> None:
        """Give the labels of enumerations the numbers they have on the target.

        Statistics of several columns hold these numbers. So do tables and the definitions of views,
        so that it must be done before there are any.
        """
        kept = [tuple(values) for values in zip(*labels, strict=True)]
        if not kept:
            return
        for shift in (_APART, 0):  # all of them elsewhere first, so that none is met twice
            self._connection.execute(
                "UPDATE pg_enum e SET oid = (v.number + %s)::oid "
                "FROM (SELECT * FROM unnest(%s::text[], %s::text[], %s::text[], %s::bigint[])) "
                "AS v(schema, type, label, number) JOIN pg_namespace n ON n.nspname = v.schema "
                "JOIN pg_type t ON t.typnamespace = n.oid AND t.typname = v.type "
                "WHERE e.enumtypid = t.oid AND e.enumlabel = v.label",
                (shift, *(list(values) for values in kept)),
            )

    def extended(self, found: Iterable[ExtendedStatistics], version: int) -> list[str]:
        """What statistics objects hold; those that could not be written."""
        kept = list(found)
        if not kept:
            return []
        for name in ("pg_ndistinct", "pg_dependencies", "pg_mcv_list"):
            type_ = sql.Identifier(name)
            with suppress(psycopg.errors.DuplicateObject):
                self._connection.execute(
                    sql.SQL("CREATE CAST (bytea AS pg_catalog.{}) WITHOUT FUNCTION").format(type_)
                )
        names = "stxoid, stxdndistinct, stxddependencies, stxdmcv"
        values = (
            "e.oid, %s::bytea::pg_ndistinct, %s::bytea::pg_dependencies, %s::bytea::pg_mcv_list"
        )
        if version >= 150_000:
            names, values = f"{names}, stxdinherit", f"{values}, %s::bool"
        failed = []
        for each in (self._with_own_numbers(one) for one in kept):
            given: list[object] = [each.distinct, each.dependencies, each.common]
            if version >= 150_000:
                given.append(each.inherited)
            try:
                self._connection.execute(
                    f"INSERT INTO pg_statistic_ext_data ({names}) SELECT {values} "  # noqa: S608
                    "FROM pg_statistic_ext e JOIN pg_namespace n ON n.oid = e.stxnamespace "
                    "WHERE n.nspname = %s AND e.stxname = %s",
                    [*given, each.schema, each.name],
                )
            except psycopg.Error:
                failed.append(f"{each.schema}.{each.name}")
        return failed

    def _with_own_numbers(self, each: ExtendedStatistics) -> ExtendedStatistics:
        """The same with the numbers that the columns have here: none is dropped here."""
        row = self._connection.execute(
            "SELECT e.stxkeys::int2[]::int[] FROM pg_statistic_ext e "
            "JOIN pg_namespace n ON n.oid = e.stxnamespace WHERE n.nspname = %s AND e.stxname = %s",
            (each.schema, each.name),
        ).fetchone()
        own = row[0] if row is not None else []
        if not each.columns or len(own) != len(each.columns):
            return each
        numbers = dict(zip(each.columns, own, strict=True))
        distinct, dependencies = each.distinct, each.dependencies
        if distinct is not None:
            distinct = stored_distinct(renumbered(distinct_items(distinct), numbers))
        if dependencies is not None:
            dependencies = stored_dependencies(renumbered(dependency_items(dependencies), numbers))
        return replace(each, distinct=distinct, dependencies=dependencies)

    def column(self, each: ColumnStatistics, type_: int | None = None) -> bool:
        """The statistics of one column; whether all of them could be carried over.

        ``type_`` is the values' own, where an index keeps something else of them.
        """
        place = sql.Identifier(each.schema, each.table).as_string(None)
        row = self._connection.execute(_COLUMN_SQL, (type_, place, each.column)).fetchone()
        if row is None:
            return False
        table, number, of_values, collation, kind, element, element_kind, element_collation, own = (
            row
        )
        if own and not each.own_kinds:
            # A type that gathers statistics for itself may trust that they are there, and a server
            # that finds others in their place has been seen to crash.
            return False
        slots: list[tuple[int, int, int, str | None, tuple[int, str] | None]] = []
        equal, less = self._compared(int(str(of_values)))
        plain = _is_read_safely(int(str(of_values)), str(kind)) and (
            element is None or _is_read_safely(int(str(element)), str(element_kind))
        )
        order = int(str(collation))
        if plain and each.common and equal:
            slots.append(
                (_COMMON, equal, order, each.common_shares, (int(str(of_values)), each.common))
            )
        if plain and each.bounds and less:
            slots.append((_BOUNDS, less, order, None, (int(str(of_values)), each.bounds)))
        if each.correlation is not None and less:
            slots.append((_CORRELATION, less, order, f"{{{each.correlation}}}", None))
        if plain and each.elements and element is not None:
            part = int(str(element))
            same, _ = self._compared(part)
            collated = int(str(element_collation))
            slots.append((_ELEMENTS, same, collated, each.element_shares, (part, each.elements)))
            if each.element_counts:
                slots.append((_ELEMENT_COUNTS, same, collated, each.element_counts, None))
        if each.range_lengths:
            share = f"{{{each.empty_share or 0.0}}}"
            lengths = (_FLOAT8, each.range_lengths)
            slots.append((_RANGE_LENGTHS, _FLOAT8_LESS, 0, share, lengths))
        if plain and each.range_bounds:
            slots.append((_RANGE_BOUNDS, 0, 0, None, (int(str(of_values)), each.range_bounds)))
        # Their numbers alone are carried over: no function of the type reads them here.
        slots += [(kind, 0, 0, numbers, None) for kind, numbers in each.own_kinds]
        self._insert(int(str(table)), int(str(number)), each, slots[:_SLOTS])
        return plain or not (each.common or each.bounds)

    def _insert(
        self,
        table: int,
        number: int,
        each: ColumnStatistics,
        slots: list[tuple[int, int, int, str | None, tuple[int, str] | None]],
    ) -> None:
        names = ["starelid", "staattnum", "stainherit", "stanullfrac", "stawidth", "stadistinct"]
        marks = ["%s"] * len(names)
        given: list[object] = [
            table, number, each.inherited, each.null_share, each.width, each.distinct
        ]  # fmt: skip
        for place in range(1, _SLOTS + 1):
            names += [f"stakind{place}", f"staop{place}", f"stacoll{place}"]
            marks += ["%s"] * 3
            slot = slots[place - 1] if place <= len(slots) else (0, 0, 0, None, None)
            given += slot[:3]
            names += [f"stanumbers{place}", f"stavalues{place}"]
            marks.append("%s::real[]")
            given.append(slot[3])
            if slot[4] is None:
                marks.append("NULL")
            else:
                marks.append("array_in(%s::cstring, %s::oid, -1)")
                given += [slot[4][1], slot[4][0]]
        self._connection.execute(
            f"INSERT INTO pg_statistic ({', '.join(names)}) VALUES ({', '.join(marks)})",  # noqa: S608
            given,
        )

    def _compared(self, type_: int) -> tuple[int, int]:
        """The operators "=" and "<" of a type's usual order; 0 where it has none."""
        if type_ not in self._operators:
            row = self._connection.execute(_OPERATORS_SQL, (type_,)).fetchone()
            equal, less = row or (None, None)
            self._operators[type_] = (int(str(equal or 0)), int(str(less or 0)))
        return self._operators[type_]


def _is_read_safely(type_: int, kind: str) -> bool:
    """Whether reading a value of this type runs no function that a user may have written."""
    return type_ < _FIRST_OWN_OID or kind in ("b", "e")
