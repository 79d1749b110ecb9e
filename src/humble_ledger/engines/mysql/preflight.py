"""What a server lets us see, and the statements that would show more."""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.schema.readiness import Readiness, SourceState
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.log_table import NAME as LOG_TABLE
from humble_ledger.errors import HumbleError

GENTLE_THRESHOLD_S = "0.1"


def readiness(connection: Connection) -> Sequence[Readiness]:
    """Every source of evidence of this server, in the order in which they help."""
    return [
        _slow_log(connection),
        _statistics(connection),
        _activity(connection),
        _estimates(connection),
        _trials(connection),
    ]


def _value(connection: Connection, name: str) -> str:
    try:
        return str(connection.one(f"SELECT @@GLOBAL.{name}"))
    except HumbleError:
        return ""


def _grants(connection: Connection) -> str:
    try:
        return " ".join(str(row[0]) for row in connection.rows("SHOW GRANTS")).upper()
    except HumbleError:
        return ""


def _changing(connection: Connection) -> tuple[str, ...]:
    grants = _grants(connection)
    able = ("ALL PRIVILEGES ON *.*", "SUPER", "SYSTEM_VARIABLES_ADMIN")
    return () if any(word in grants for word in able) else ("the right to change global settings",)


def _slow_log(connection: Connection) -> Readiness:
    switch = (
        f"SET GLOBAL long_query_time = {GENTLE_THRESHOLD_S};",
        "SET GLOBAL slow_query_log = ON;",
    )
    rights = _changing(connection)
    if _value(connection, "slow_query_log") not in ("1", "ON"):
        return Readiness(
            "slow log",
            SourceState.OFF,
            "no statement is logged with its duration",
            switch_on=switch,
            rights=rights,
        )
    threshold = float(_value(connection, "long_query_time") or 10)
    hides = [] if threshold == 0 else [f"statements faster than {threshold:g} s"]
    extra = ""
    if connection.member.mariadb:
        if "query_plan" not in _value(connection, "log_slow_verbosity"):
            hides.append("how it was done (log_slow_verbosity has no query_plan)")
            extra = "SET GLOBAL log_slow_verbosity = 'query_plan,explain';"
    elif _value(connection, "log_slow_extra") in ("0", "OFF"):
        hides.append("what it read (log_slow_extra)")
        extra = "SET GLOBAL log_slow_extra = ON;"
    output = _value(connection, "log_output").upper()
    places = [_value(connection, "slow_query_log_file")] if "FILE" in output else []
    if "TABLE" in output:
        places.append(f"the table {LOG_TABLE} (humble capture log --from-server)")
    where = " and ".join(places)
    if not places:
        hides.append("everything: log_output is NONE")
    what = "every statement" if threshold == 0 else f"statements of {threshold:g} s and more"
    return Readiness(
        "slow log",
        SourceState.ON,
        f"{what} with its duration, in {where}",
        hides=tuple(hides),
        switch_on=(extra,) if extra else (),
        rights=rights if extra else (),
    )


def _statistics(connection: Connection) -> Readiness:
    name = "statement statistics"
    if _value(connection, "performance_schema") not in ("1", "ON"):
        return Readiness(
            name,
            SourceState.OFF,
            "performance_schema is off",
            switch_on=("performance_schema = ON  -- in the server's option file, group mysqld",),
            restart=True,
            rights=("access to the server's option file",),
        )
    try:
        consumers = dict(
            connection.rows("SELECT NAME, ENABLED FROM performance_schema.setup_consumers")
        )
        full = int(connection.one(
            "SELECT COUNT(*) FROM performance_schema.events_statements_summary_by_digest "
            "WHERE DIGEST IS NULL"
        ) or 0)  # fmt: skip
    except HumbleError as error:
        return Readiness(
            name,
            SourceState.CLOSED,
            f"it is on, and not for this user: {error.message}",
            rights=("SELECT ON performance_schema.*",),
        )
    if consumers.get("statements_digest") != "YES":
        return Readiness(
            name,
            SourceState.OFF,
            "statements are not counted by their digest",
            switch_on=(
                "UPDATE performance_schema.setup_consumers SET ENABLED = 'YES' "
                "WHERE NAME = 'statements_digest';",
            ),
            rights=("UPDATE ON performance_schema.setup_consumers",),
        )
    hides = ["statements that found no more room (performance_schema_digests_size)"] if full else []
    return Readiness(
        name,
        SourceState.PARTLY if full else SourceState.ON,
        "calls, time and rows of each kind of statement",
        hides=tuple(hides),
    )


def _activity(connection: Connection) -> Readiness:
    if "PROCESS" in _grants(connection) or "ALL PRIVILEGES ON *.*" in _grants(connection):
        return Readiness("sessions", SourceState.ON, "what every session does, and who blocks whom")
    return Readiness(
        "sessions",
        SourceState.PARTLY,
        "what this user's own sessions do",
        hides=("the sessions of other users",),
        switch_on=("GRANT PROCESS ON *.* TO CURRENT_USER();  -- by an administrator",),
        rights=("PROCESS",),
    )


def _estimates(connection: Connection) -> Readiness:
    try:
        connection.rows("SELECT 1 FROM mysql.innodb_table_stats LIMIT 1")
        kept = 0
        if connection.member.mariadb:
            kept = int(connection.one(
                "SELECT COUNT(*) FROM mysql.column_stats WHERE db_name = DATABASE()"
            ) or 0)  # fmt: skip
    except HumbleError:
        return Readiness(
            "table statistics",
            SourceState.PARTLY,
            "rows and sizes as the server rounds them",
            hides=("pages of each index, and when they were counted",),
            switch_on=("GRANT SELECT ON mysql.innodb_table_stats TO …;",
                       "GRANT SELECT ON mysql.innodb_index_stats TO …;"),
            rights=("SELECT on the statistics tables in the database mysql",),
        )  # fmt: skip
    hides: tuple[str, ...] = ()
    if connection.member.mariadb and not kept:
        hides = ("how often values occur in columns without an index (ANALYZE TABLE … PERSISTENT)",)
    return Readiness(
        "table statistics", SourceState.ON, "rows, pages of tables and indexes", hides=hides
    )


def _trials(connection: Connection) -> Readiness:
    grants = _grants(connection)
    if "ALL PRIVILEGES" in grants or "INDEX" in grants or "ALTER" in grants:
        return Readiness("trials", SourceState.ON, "indexes can be built and removed again")
    return Readiness(
        "trials",
        SourceState.CLOSED,
        "this user may build no index",
        rights=("INDEX and ALTER on the tables",),
    )
