"""A longer history in the statistics of a hollow: columns that advance with the rows reach back.

Rows of the same kind leave the range of every column as it is. In a table that keeps what happened,
more rows mean older ones: a condition on the last day then matches as many rows as before, of many
more.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import psycopg
from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.outline import Relation

ADVANCING = 0.9  # correlation with the place of the rows, from which on a column goes with them
# How far a value lies behind the last one, so many times as far.
_STRETCHED = {
    "timestamp without time zone": "m - (m - v) * f",
    "timestamp with time zone": "m - (m - v) * f",
    "date": "m - round((m - v) * f)::int",
    "smallint": "(m - round((m - v) * f))::smallint",
    "integer": "(m - round((m - v)::numeric * f::numeric))::integer",
    "bigint": "(m - round((m - v)::numeric * f::numeric))::bigint",
    "numeric": "m - (m - v) * f::numeric",
}
_COLUMNS_SQL = """
SELECT a.attnum, format_type(a.atttypid, NULL), s.histogram_bounds::text, p.stadistinct, a.atttypid
FROM pg_stats s
JOIN pg_attribute a ON a.attrelid = %s::regclass AND a.attname = s.attname
JOIN pg_statistic p ON p.starelid = a.attrelid AND p.staattnum = a.attnum
     AND p.stainherit = s.inherited
WHERE s.schemaname = %s AND s.tablename = %s AND s.correlation > %s
  AND s.histogram_bounds IS NOT NULL
"""


@dataclass(frozen=True, slots=True)
class _Column:
    number: int
    type_name: str
    bounds: str
    distinct: float
    type_oid: int


@dataclass(slots=True)
class History:
    """The advancing columns of one hollow's tables, as they were."""

    admin: Connection
    _known: dict[str, list[_Column]] = field(default_factory=dict)
    _factors: dict[str, float] = field(default_factory=dict)

    def stretch(self, relations: Iterable[Relation], factor: float) -> None:
        """Let the columns of these tables reach so many times as far back; 1 is as it was."""
        for relation in relations:
            place = sql.Identifier(relation.schema, relation.name).as_string(None)
            if self._factors.get(place, 1.0) == factor:
                continue
            if place not in self._known:
                rows = self.admin.execute(
                    _COLUMNS_SQL, (place, relation.schema, relation.name, ADVANCING)
                ).fetchall()
                self._known[place] = [_Column(*row) for row in rows if row[1] in _STRETCHED]
            for column in self._known[place]:
                self._write(place, column, factor)
            self._factors[place] = factor

    def _write(self, place: str, column: _Column, factor: float) -> None:
        """The bounds of one column; one whose type has no value so far back stays as it is."""
        type_ = sql.SQL(column.type_name)  # the server's own name of it
        query = sql.SQL(
            "SELECT array_agg({stretched} ORDER BY v)::text FROM unnest({bounds}::{type}[]) AS v, "
            "(SELECT max(x) AS m FROM unnest({bounds}::{type}[]) AS x) AS last, "
            "(SELECT {factor}::float8 AS f) AS by"
        ).format(
            stretched=sql.SQL(_STRETCHED[column.type_name]),
            bounds=sql.Literal(column.bounds),
            type=type_,
            factor=sql.Literal(factor),
        )
        try:
            row = self.admin.execute(query).fetchone()
        except psycopg.Error:
            return
        distinct = column.distinct * factor if column.distinct > 0 else column.distinct
        values = [
            f"stavalues{n} = CASE WHEN stakind{n} = 2 THEN array_in(%s::cstring, %s::oid, -1) "
            f"ELSE stavalues{n} END"
            for n in range(1, 6)
        ]
        self.admin.execute(
            f"UPDATE pg_statistic SET stadistinct = %s, {', '.join(values)} "  # noqa: S608
            "WHERE starelid = %s::regclass AND staattnum = %s",
            (distinct, *([row[0] if row else None, column.type_oid] * 5), place, column.number),
        )
