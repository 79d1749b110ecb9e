"""What ANALYZE would find of an expression that an index is to be built on, from a block sample.

The target is only read: some hundred pages, the same ones each time. The rules by which values
count as common follow `src/backend/commands/analyze.c`, the number of different ones the
estimator of Haas and Stokes (JASA 93, 1998) as ANALYZE does.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from psycopg import sql

from humble_ledger.core.costs.model import KeySample
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.statements.side_effects import refuse_run
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.source import PLAIN_TEXTS, ColumnStatistics
from humble_ledger.engines.postgresql.one_statement import UserCursor, texts_of
from humble_ledger.engines.postgresql.sampling import LEAST_PERCENT, ROWS_WANTED
from humble_ledger.engines.postgresql.side_effects.search import SideEffects
from humble_ledger.engines.postgresql.transactions import reading
from humble_ledger.errors import HumbleError

_MOST_COMMON, _BOUNDS = 100, 100
_MORE_COMMON = 1.25  # than the average value, or it is not worth being kept
_ALWAYS_NEW = 0.1  # of the rows have values of their own: their number grows with the table
# It runs where names are looked for as the user does, for the expression: so every name of ours
# says where it stands, and equal values are told by their order, not by an operator's name.
_SAMPLE_SQL = """
WITH given AS (
    SELECT {expression} AS v, pg_catalog.row_number() OVER (ORDER BY ctid) AS place
    FROM {table} TABLESAMPLE SYSTEM ({percent}) REPEATABLE (1)
), seen AS MATERIALIZED (
    SELECT v, place, pg_catalog.dense_rank() OVER (ORDER BY v) AS g FROM given
), groups AS MATERIALIZED (
    SELECT g, (pg_catalog.array_agg(v))[1] AS v, pg_catalog.count(*) AS n
    FROM seen WHERE v IS NOT NULL GROUP BY g
), all_groups AS (SELECT pg_catalog.count(*) AS many, pg_catalog.avg(n) AS mean FROM groups),
often AS MATERIALIZED (
    SELECT g, v, n FROM groups, all_groups
    WHERE n OPERATOR(pg_catalog.>) 1
      AND (many OPERATOR(pg_catalog.<=) {most}
           OR n OPERATOR(pg_catalog.>) ({more} OPERATOR(pg_catalog.*) mean))
    ORDER BY n DESC, g LIMIT {most}
), ranked AS (
    SELECT v, g, place, pg_catalog.row_number() OVER (ORDER BY g, place) AS rank
    FROM seen WHERE v IS NOT NULL
), total AS (SELECT pg_catalog.count(*)::pg_catalog.float8 AS rows FROM seen)
SELECT (SELECT pg_catalog.count(*) FROM seen),
    (SELECT pg_catalog.count(*) FROM seen WHERE v IS NULL),
    (SELECT pg_catalog.avg(pg_catalog.pg_column_size(v)) FROM seen),
    (SELECT pg_catalog.count(*) FROM groups),
    (SELECT pg_catalog.count(*) FROM groups WHERE n OPERATOR(pg_catalog.=) 1),
    (SELECT pg_catalog.array_agg(v ORDER BY n DESC, g)::pg_catalog.text FROM often),
    (SELECT pg_catalog.array_agg((n OPERATOR(pg_catalog./) rows)::pg_catalog.float4
                                 ORDER BY n DESC, g)::pg_catalog.text FROM often, total),
    (SELECT pg_catalog.corr(place, rank) FROM ranked),
    (SELECT pg_catalog.percentile_disc(
        (SELECT pg_catalog.array_agg(i OPERATOR(pg_catalog./) {bounds}::pg_catalog.float8
                                     ORDER BY i)
         FROM pg_catalog.generate_series(0, {bounds}) AS i))
        WITHIN GROUP (ORDER BY v) FROM ranked
     WHERE NOT EXISTS (SELECT FROM often AS o WHERE o.g OPERATOR(pg_catalog.=) ranked.g)
    )::pg_catalog.text
"""


# Whole pages are read, and of their rows every so many-th: rows of one page are no independent
# witnesses of what comes together.
_ROWS_SQL = """
SELECT {columns} FROM {table} TABLESAMPLE SYSTEM ({percent}) REPEATABLE (1)
WHERE pg_catalog.abs(pg_catalog.hashtext(ctid::pg_catalog.text)::pg_catalog.int8)
      OPERATOR(pg_catalog.%) {every} OPERATOR(pg_catalog.=) 0
LIMIT {most}
"""
ROWS_TOGETHER, PAGES_TOGETHER = 30_000, 2_000


class Sampler(Protocol):
    """Tells what ANALYZE would find of an expression, and which values come together."""

    def statistics(self, table: Relation, expression: str) -> ColumnStatistics | None:
        """What it would find; None where that cannot be told."""
        ...

    def rows(self, table: Relation, columns: Sequence[str]) -> Sequence[tuple[str | None, ...]]:
        """Rows of a sample, of these columns as text; none where there is none to be had."""
        ...

    def close(self) -> None:
        """Ask no more."""
        ...


class NoSampler:
    """Where there are no rows to sample."""

    def statistics(self, table: Relation, expression: str) -> ColumnStatistics | None:
        """Nothing is known of any expression."""
        return None

    def rows(self, table: Relation, columns: Sequence[str]) -> Sequence[tuple[str | None, ...]]:
        """There are none."""
        return ()

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

    def rows(self, table: Relation, columns: Sequence[str]) -> Sequence[tuple[str | None, ...]]:
        """Rows of some thousand pages; see `Sampler`.

        Raises:
            TargetUnreachable: the target does not answer.
            StatementRejected: it may not be read.
        """
        connection = self._opened()
        share = min(100.0, 100.0 * PAGES_TOGETHER / max(1, table.pages))
        sampled = max(1.0, table.rows) * share / 100.0
        name = sql.Identifier(table.schema, table.name)
        text = sql.SQL(_ROWS_SQL).format(
            columns=sql.SQL(", ").join(map(sql.Identifier, columns)),
            table=name,
            percent=sql.SQL(f"{share:.4f}"),
            every=sql.SQL(str(max(1, round(sampled / ROWS_TOGETHER)))),
            most=sql.SQL(str(2 * ROWS_TOGETHER)),
        )
        whole = sql.SQL("TABLE {}").format(name).as_string(connection)
        refuse_run(SideEffects(connection).of(whole, writes=False), self._limits.may_call)
        with translated(), reading(connection), UserCursor(connection) as cursor:
            for setting, plain in PLAIN_TEXTS.items():
                cursor.execute("SELECT pg_catalog.set_config($1, $2, true)", (setting, plain))
            cursor.execute(text)
            return texts_of(cursor)

    def close(self) -> None:
        """End the connection."""
        if self._connection is not None:
            self._connection.close()

    def _opened(self) -> Connection:
        if self._connection is None:
            self._connection = connect(self._url, self._limits)
        return self._connection

    def _sampled(self, table: Relation, expression: str) -> ColumnStatistics | None:
        connection = self._opened()
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
        different = sample.distinct(max(rows, 1.0)) if kept else 0.0
        if different > _ALWAYS_NEW * max(table.rows, 1.0):
            different = -different / max(table.rows, 1.0)
        return ColumnStatistics(
            table.schema, table.name, "", False, int(nulls) / max(1, int(seen)), round(width or 8),
            max(-1.0, different), common, shares, bounds,
            None if correlation is None else float(correlation), None, None, None,
        )  # fmt: skip
