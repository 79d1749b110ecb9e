"""The scenario on a MariaDB server: the same tables, and statements in its own words."""

from __future__ import annotations

from importlib import resources
from importlib.resources.abc import Traversable

import pymysql

from humble_ledger.demo.scenario import DATABASE
from humble_ledger.demo.workload import AppStatement, load_workload
from humble_ledger.engines.mysql.launcher import MariaCluster, Programs
from humble_ledger.engines.mysql.values import literal

READINGS = 1_500_000
_SEASON_MS = 15_600_000_000  # from January to June
SETTINGS = {
    "performance_schema": "ON",
    "innodb_buffer_pool_size": "512M",
    "long_query_time": "0",
    "log_slow_verbosity": "query_plan",
    "default_time_zone": "+00:00",
}


def mariadb_cluster(programs: Programs) -> MariaCluster:
    """A server with the scenario's settings, not started yet."""
    return MariaCluster(programs, SETTINGS)


def build_mariadb_scenario(cluster: MariaCluster, readings: int = READINGS) -> str:
    """Create the scenario's database on a server of ours and fill it; its URL.

    The building is kept out of the slow log, which is on from then on.
    """
    connection = pymysql.connect(
        unix_socket=str(cluster.socket), user="humble", autocommit=True, charset="utf8mb4"
    )
    try:
        with connection.cursor() as cursor:
            cursor.execute(f"CREATE DATABASE {DATABASE} CHARACTER SET utf8mb4")
            cursor.execute(f"USE {DATABASE}")
            for name in ("schema.sql", "data.sql"):
                text = (_folder() / name).read_text(encoding="utf-8")
                text = text.replace("{readings}", str(readings))
                text = text.replace("{step_ms}", str(_SEASON_MS // readings))
                for statement in text.split(";\n"):
                    if statement.strip():
                        cursor.execute(statement)
                        cursor.fetchall()
            cursor.execute("TRUNCATE performance_schema.events_statements_summary_by_digest")
            cursor.execute("SET GLOBAL slow_query_log = ON")
    finally:
        connection.close()
    return cluster.url(DATABASE)


def mariadb_workload() -> list[AppStatement]:
    """Every statement of the workload, in this server's words where they differ."""
    own = {file.name: file for file in (_folder() / "workload").iterdir()}
    return load_workload(own)


def send_mariadb_workload(cluster: MariaCluster, most_times: int = 1_000) -> int:
    """Send every statement as its application does; how many were sent."""
    sent = 0
    for statement in mariadb_workload():
        connection = pymysql.connect(
            unix_socket=str(cluster.socket),
            user="humble",
            database=DATABASE,
            autocommit=True,
            charset="utf8mb4",
            program_name=statement.application,
        )
        try:
            with connection.cursor() as cursor:
                for values in list(statement.sendings())[:most_times]:
                    cursor.execute(_with(statement.sql, values))
                    cursor.fetchall()
                    sent += 1
        finally:
            connection.close()
    return sent


def _with(sql: str, values: tuple[object, ...]) -> str:
    for number, value in reversed(list(enumerate(values, 1))):
        shown = literal(value) if isinstance(value, str) else str(value)
        if isinstance(value, str) and shown[0] != "'":
            shown = f"'{shown}'"
        sql = sql.replace(f"${number}", shown)
    return sql


def _folder() -> Traversable:
    return resources.files("humble_ledger.demo") / "sql" / "mariadb"
