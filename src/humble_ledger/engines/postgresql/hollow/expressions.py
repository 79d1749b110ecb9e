"""What ANALYZE would find of an expression that an index is to be built on, from a block sample.

The target is only read: some hundred pages, the same ones each time. The rules by which values
count as common follow `src/backend/commands/analyze.c`, the number of different ones the
estimator of Haas and Stokes (JASA 93, 1998) as ANALYZE does.
"""

from __future__ import annotations

from typing import Protocol

from psycopg import sql

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.side_effects import refuse_run
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.source import ColumnStatistics, Relation
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.engines.postgresql.sampling import LEAST_PERCENT, ROWS_WANTED
from humble_ledger.engines.postgresql.side_effects.search import SideEffects
from humble_ledger.engines.postgresql.transactions import reading
from humble_ledger.errors import HumbleError

_MOST_COMMON, _BOUNDS = 100, 100
_MORE_COMMON = 1.25  # than the average value, or it is not worth being kept
_ALWAYS_NEW = 0.1  # of the rows have values of their own: their number grows with the table
_SAMPLE_SQL = """
WITH seen AS MATERIALIZED (
    SELECT {expression} AS v, row_number() OVER (ORDER BY ctid) AS place
    FROM {table} TABLESAMPLE SYSTEM ({percent}) REPEATABLE (1)
), groups AS MATERIALIZED (SELECT v, count(*) AS n FROM seen WHERE v IS NOT NULL GROUP BY v),
often AS MATERIALIZED (
    SELECT v, n FROM groups
    WHERE n > 1 AND ((SELECT count(*) FROM groups) <= {most}
                     OR n > {more} * (SELECT avg(n) FROM groups))
    ORDER BY n DESC LIMIT {most}
), ranked AS (SELECT v, place, row_number() OVER (ORDER BY v, place) AS rank FROM seen
              WHERE v IS NOT NULL)
SELECT (SELECT count(*) FROM seen), (SELECT count(*) FROM seen WHERE v IS NULL),
    (SELECT avg(pg_column_size(v)) FROM seen), (SELECT count(*) FROM groups),
    (SELECT count(*) FROM groups WHERE n = 1),
    (SELECT array_agg(v ORDER BY n DESC)::text FROM often),
    (SELECT array_agg(n / (SELECT count(*) FROM seen)::real ORDER BY n DESC)::text FROM often),
    (SELECT corr(place, rank) FROM ranked),
    (SELECT percentile_disc(
        (SELECT array_agg(i / {bounds}::float8 ORDER BY i) FROM generate_series(0, {bounds}) i))
        WITHIN GROUP (ORDER BY v) FROM ranked
     WHERE NOT EXISTS (SELECT FROM often o WHERE o.v = ranked.v))::text
"""


class Sampler(Protocol):
    """Tells what ANALYZE would find of an expression."""

    def statistics(self, table: Relation, expression: str) -> ColumnStatistics | None:
        """What it would find; None where that cannot be told."""
        ...

    def close(self) -> None:
        """Ask no more."""
        ...


class NoSampler:
    """Where there are no rows to sample."""

    def statistics(self, table: Relation, expression: str) -> ColumnStatistics | None:
        """Nothing is known of any expression."""
        return None

    def close(self) -> None:
        """Nothing is open."""


class ExpressionSampler:
    """Samples expressions on one target, on a connection of its own, opened when first needed."""

    def __init__(self, url: str, limits: Limits) -> None:
        self._url, self._limits = url, limits
        self._connection: Connection | None = None
        self._known: dict[tuple[str, str, str], ColumnStatistics | None] = {}

    def statistics(self, table: Relation, expression: str) -> ColumnStatistics | None:
        """What ANALYZE would find; None where it cannot be read, or may not be run."""
        key = (table.schema, table.name, expression)
        if key not in self._known:
            try:
                self._known[key] = self._sampled(table, expression)
            except HumbleError:
                self._known[key] = None
        return self._known[key]

    def close(self) -> None:
        """End the connection."""
        if self._connection is not None:
            self._connection.close()

    def _sampled(self, table: Relation, expression: str) -> ColumnStatistics | None:
        if self._connection is None:
            self._connection = connect(self._url, self._limits)
        connection = self._connection
        found = SideEffects(connection).of(Statement(expression).sql, writes=False)
        refuse_run(found, self._limits.may_call)
        percent = min(100.0, max(LEAST_PERCENT, 100.0 * ROWS_WANTED / max(1.0, table.rows)))
        # The expression is the server's own text of a condition; the name goes through the driver.
        parts = {
            "expression": f"({expression})",
            "table": sql.Identifier(table.schema, table.name).as_string(connection),
            "percent": f"{percent:.4f}", "most": _MOST_COMMON, "more": _MORE_COMMON,
            "bounds": _BOUNDS,
        }  # fmt: skip
        with translated(), reading(connection), UserCursor(connection) as cursor:
            row = cursor.execute(_SAMPLE_SQL.format(**parts).encode()).fetchone()
        if row is None or not row[0]:
            return None
        seen, nulls, width, distinct, once, common, shares, correlation, bounds = row
        kept = int(seen) - int(nulls)
        rows = table.rows * kept / max(1, int(seen))
        sample = KeySample(int(seen), kept, int(distinct), int(once), 0.0)
        different = sample.distinct(max(rows, 1.0), in_order=False) if kept else 0.0
        if different > _ALWAYS_NEW * max(table.rows, 1.0):
            different = -different / max(table.rows, 1.0)
        return ColumnStatistics(
            table.schema, table.name, "", False, int(nulls) / max(1, int(seen)), round(width or 8),
            max(-1.0, different), common, shares, bounds,
            None if correlation is None else float(correlation), None, None, None,
        )  # fmt: skip
