"""Building the scenario's database on a server."""

from __future__ import annotations

import re
from importlib import resources
from pathlib import Path

import psycopg
from psycopg.rows import TupleRow

from humble_ledger.engines.postgresql.launcher import Binaries, Cluster
from humble_ledger.errors import RefusedForSafety

DATABASE = "skerry"
READINGS = 1_500_000
_SEASON_S = 15_600_000  # from January to June
TABLES = ("visit", "alert", "reading", "sensor", "buoy", "keeper", "region")
STATISTICS = "pg_stat_statements"
LOG_PREFIX = "%m [%p] %q%u@%d/%a "
# Everything is logged, so that even a small statement sent in a loop shows; on a busy server
# of one's own, 100 ms is a gentler threshold.
SETTINGS = {
    "log_min_duration_statement": "0",
    "log_line_prefix": LOG_PREFIX,
    "log_timezone": "UTC",
    "timezone": "UTC",
    "lc_messages": "C",
    "shared_buffers": "512MB",
    "work_mem": "4MB",
    "maintenance_work_mem": "256MB",
    "max_wal_size": "4GB",
    "autovacuum": "off",  # the story needs statistics that stay as old as they are
    "jit": "off",
    "random_page_cost": "1.5",  # the data lies in memory or on flash
}
STATEMENT_END = re.compile(r";\s*(?:--[^\n]*)?\n(?!\s*\$\$)")
QUIET = "SET log_min_duration_statement = -1"


def scenario_cluster(binaries: Binaries, kept: Path | None = None) -> Cluster:
    """A server with the scenario's settings, not started yet; it counts statements if it can.

    ``kept`` is a folder that stays when it stops: see `Cluster`.
    """
    settings = dict(SETTINGS)
    if binaries.has_module(STATISTICS):
        settings["shared_preload_libraries"] = STATISTICS
    return Cluster(binaries, settings, kept=kept)


def build_scenario(cluster: Cluster, readings: int = READINGS) -> str:
    """Create the scenario's database on a server of ours and fill it; returns its URL.

    With fewer ``readings`` they are as many seasons long, and further apart.

    About ten seconds on two cores. The building is kept out of the slow log.
    """
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
        connection.execute(QUIET)
        connection.execute(f"CREATE DATABASE {DATABASE}")
    url = cluster.url(DATABASE)
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(QUIET)
        _fill(connection, readings)
        loaded = connection.execute(
            "SELECT current_setting('shared_preload_libraries') = %s", (STATISTICS,)
        ).fetchone()
        if loaded == (True,):
            # From here on: what the building took is nobody's concern.
            connection.execute(f"CREATE EXTENSION {STATISTICS}".encode())
            connection.execute("SET pg_stat_statements.track = 'none'")
            connection.execute("SELECT pg_stat_statements_reset()")
    return url


def build_scenario_in(url: str) -> None:
    """Fill an empty database of the user's.

    Raises:
        RefusedForSafety: the database has tables already.
    """
    with psycopg.connect(url, autocommit=True) as connection:
        row = connection.execute(
            "SELECT count(*) FROM pg_class WHERE relkind IN ('r', 'p') "
            "AND relnamespace = 'public'::regnamespace"
        ).fetchone()
        if row != (0,):
            raise RefusedForSafety(
                "The database of the target has tables already.",
                "Make an empty one for the demo:  createdb skerry",
            )
        _fill(connection, READINGS)


def remove_scenario(url: str) -> None:
    """Drop the scenario's tables again."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(f"DROP TABLE IF EXISTS {', '.join(TABLES)}".encode())


def _fill(connection: psycopg.Connection[TupleRow], readings: int) -> None:
    # The last of them come after the statistics were gathered.
    amounts = {
        "{readings}": str(readings),
        "{seen}": str(readings - readings // 50),
        "{step_s}": f"{_SEASON_S / readings:.1f}",
    }
    for name in ("schema.sql", "data.sql"):
        text = (resources.files("humble_ledger.demo") / "sql" / name).read_text()
        for place, amount in amounts.items():
            text = text.replace(place, amount)
        for statement in STATEMENT_END.split(text):
            if statement.strip():
                connection.execute(statement.encode())
