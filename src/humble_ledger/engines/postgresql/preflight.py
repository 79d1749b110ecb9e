"""What a PostgreSQL server lets us see, and the statements that would show more."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from psycopg.rows import dict_row

from humble_ledger.core.schema.quoting import identifier
from humble_ledger.core.schema.readiness import Readiness, SourceState
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated

GENTLE_THRESHOLD = "100ms"
_RELOAD = "SELECT pg_reload_conf();"
_SETTINGS_SQL = """
SELECT name, current_setting(name) AS value FROM pg_settings WHERE name IN (
    'log_min_duration_statement', 'log_min_duration_sample', 'log_duration', 'log_statement',
    'log_destination', 'logging_collector', 'log_line_prefix', 'log_parameter_max_length',
    'log_temp_files', 'log_lock_waits', 'shared_preload_libraries', 'session_preload_libraries',
    'track_activities', 'track_activity_query_size', 'track_io_timing', 'autovacuum',
    'track_counts', 'pg_stat_statements.track', 'pg_stat_statements.max',
    'auto_explain.log_min_duration', 'auto_explain.log_analyze', 'auto_explain.log_format')
"""
_FACTS_SQL = """
SELECT current_user::text AS me, current_setting('is_superuser') = 'on' AS superuser,
    pg_has_role(current_user, 'pg_read_all_stats', 'USAGE') AS reads_stats,
    pg_is_in_recovery() AS copy,
    EXISTS (SELECT 1 FROM pg_extension WHERE extname = 'pg_stat_statements') AS extension,
    EXISTS (SELECT 1 FROM pg_available_extensions WHERE name = 'pg_stat_statements') AS available,
    count(*) AS tables,
    count(*) FILTER (WHERE pg_has_role(current_user, relowner, 'USAGE')) AS owned,
    count(*) FILTER (WHERE NOT has_table_privilege(oid, 'SELECT')) AS closed,
    count(*) FILTER (WHERE reltuples < 0) AS never_analyzed
FROM pg_class
WHERE relkind IN ('r', 'm')
  AND relnamespace NOT IN ('pg_catalog'::regnamespace, 'information_schema'::regnamespace)
  AND relpersistence <> 't' AND relnamespace::regnamespace::text !~ '^pg_'
"""


@dataclass(frozen=True, slots=True)
class _Seen:
    """The server's settings by name ("" when it has no such setting), and facts."""

    settings: Mapping[str, str]
    me: str
    superuser: bool
    reads_stats: bool
    copy: bool
    extension: bool
    available: bool
    tables: int
    owned: int
    closed: int
    never_analyzed: int

    def setting(self, name: str) -> str:
        return self.settings.get(name, "")

    @property
    def grant(self) -> str:
        """The statement that lets us see what other users run."""
        return f"GRANT pg_read_all_stats TO {identifier(self.me)};  -- by a superuser"

    @property
    def changing(self) -> tuple[str, ...]:
        """The right that changing the server's settings takes, when we lack it."""
        return () if self.superuser else ("superuser (to change the server's settings)",)


def preflight(connection: Connection) -> list[Readiness]:
    """Every source of evidence of this server, in the order in which they help."""
    with translated(), connection.cursor(row_factory=dict_row) as cursor:
        settings = {row["name"]: row["value"] for row in cursor.execute(_SETTINGS_SQL)}
        facts = cursor.execute(_FACTS_SQL).fetchone()
    assert facts is not None
    seen = _Seen(settings, **facts)
    return [
        _slow_log(seen),
        _statement_statistics(seen),
        _activity(seen),
        _plan_log(seen),
        _table_statistics(seen),
        _trials(seen),
    ]


def _slow_log(seen: _Seen) -> Readiness:
    threshold = seen.setting("log_min_duration_statement")
    hides = []
    if threshold not in ("-1", "0"):
        hides.append(f"statements faster than {threshold}")
    prefix = seen.setting("log_line_prefix")
    for escape, what in (("%u", "the user"), ("%d", "the database"), ("%a", "the application")):
        plain_only = "csvlog" not in seen.setting("log_destination")
        if escape not in prefix and plain_only:
            hides.append(f"{what} ({escape} is not in log_line_prefix)")
    if seen.setting("log_lock_waits") == "off":
        hides.append("waits for locks (log_lock_waits)")
    if seen.setting("log_temp_files") == "-1":
        hides.append("temporary files (log_temp_files)")
    switch = f"ALTER SYSTEM SET log_min_duration_statement = '{GENTLE_THRESHOLD}';"
    if threshold == "-1":
        return Readiness(
            "slow log",
            SourceState.OFF,
            "no statement is logged with its duration",
            switch_on=(switch, _RELOAD),
            rights=seen.changing,
        )
    where = seen.setting("log_destination")
    if seen.setting("logging_collector") == "on":
        where += " (humble capture log --from-server, for whoever may read the server's files)"
    return Readiness(
        "slow log",
        SourceState.ON,
        f"every statement with its duration, as {where}"
        if threshold == "0"
        else f"statements of {threshold} and more, as {where}",
        hides=tuple(hides),
    )


def _statement_statistics(seen: _Seen) -> Readiness:
    name = "statement statistics"
    libraries = seen.setting("shared_preload_libraries")
    loaded = "pg_stat_statements" in libraries
    if not loaded:
        all_libraries = ", ".join(filter(None, [libraries, "pg_stat_statements"]))
        return Readiness(
            name,
            SourceState.OFF,
            "the module pg_stat_statements is not loaded"
            + ("" if seen.available else ", nor installed: it comes with the contrib package"),
            switch_on=(
                f"ALTER SYSTEM SET shared_preload_libraries = {_listed(all_libraries)};",
                "CREATE EXTENSION pg_stat_statements;  -- after the restart, in this database",
            ),
            restart=True,
            rights=seen.changing,
        )
    if not seen.extension:
        return Readiness(
            name,
            SourceState.OFF,
            "the module is loaded, but this database has no view of it",
            switch_on=("CREATE EXTENSION pg_stat_statements;",),
            rights=() if seen.superuser else ("CREATE on the database",),
        )
    if not seen.reads_stats:
        return Readiness(
            name,
            SourceState.CLOSED,
            "only our own statements can be read",
            switch_on=(seen.grant,),
            rights=("pg_read_all_stats",),
        )
    hides = [f"statements beyond {seen.setting('pg_stat_statements.max')} different ones"]
    if seen.setting("pg_stat_statements.track") != "all":
        hides.append("statements inside functions (pg_stat_statements.track)")
    if seen.setting("track_io_timing") == "off":
        hides.append("time spent reading pages (track_io_timing)")
    return Readiness(
        name, SourceState.ON, "calls, time and pages of each statement", hides=tuple(hides)
    )


def _listed(libraries: str) -> str:
    return ", ".join(f"'{each.strip()}'" for each in libraries.split(","))


def _activity(seen: _Seen) -> Readiness:
    name = "running statements"
    if seen.setting("track_activities") != "on":
        return Readiness(
            name,
            SourceState.OFF,
            "the server does not keep track of what runs",
            switch_on=("ALTER SYSTEM SET track_activities = on;", _RELOAD),
            rights=seen.changing,
        )
    if not seen.reads_stats:
        return Readiness(
            name,
            SourceState.CLOSED,
            "of other users only that they run something, not what",
            switch_on=(seen.grant,),
            rights=("pg_read_all_stats",),
        )
    size = seen.setting("track_activity_query_size")
    return Readiness(
        name,
        SourceState.ON,
        "what every session runs and waits for",
        hides=(f"the end of statements longer than {size} (track_activity_query_size)",),
    )


def _plan_log(seen: _Seen) -> Readiness:
    name = "plans in the log"
    threshold = seen.setting("auto_explain.log_min_duration")
    if threshold not in ("", "-1"):
        analyzed = seen.setting("auto_explain.log_analyze") == "on"
        return Readiness(
            name,
            SourceState.ON if analyzed else SourceState.PARTLY,
            f"plans of statements of {threshold} and more",
            hides=() if analyzed else ("rows seen (auto_explain.log_analyze)",),
        )
    libraries = seen.setting("session_preload_libraries")
    both = ", ".join(filter(None, [libraries, "auto_explain"]))
    return Readiness(
        name,
        SourceState.OFF,
        "plans are not logged when they run; humble plan asks for them afterwards",
        switch_on=(
            "LOAD 'auto_explain';  -- so that this session knows its settings",
            f"ALTER SYSTEM SET session_preload_libraries = {_listed(both)};",
            "ALTER SYSTEM SET auto_explain.log_min_duration = '1s';",
            f"{_RELOAD}  -- for sessions that begin after this",
        ),
        rights=seen.changing,
    )


def _table_statistics(seen: _Seen) -> Readiness:
    name = "table statistics"
    hides = []
    if seen.never_analyzed:
        hides.append(f"the rows of {seen.never_analyzed} tables that were never analyzed")
    if seen.closed:
        hides.append(f"the statistics of {seen.closed} tables we may not read")
    off = [s for s in ("track_counts", "autovacuum") if seen.setting(s) != "on"]
    if off:
        return Readiness(
            name,
            SourceState.PARTLY,
            "statistics grow old: nothing gathers them by itself",
            hides=tuple(hides),
            switch_on=(*(f"ALTER SYSTEM SET {setting} = on;" for setting in off), _RELOAD),
            rights=seen.changing,
        )
    state = SourceState.PARTLY if hides else SourceState.ON
    return Readiness(name, state, f"columns and counters of {seen.tables} tables", tuple(hides))


def _trials(seen: _Seen) -> Readiness:
    name = "trials"
    if seen.copy:
        return Readiness(
            name, SourceState.CLOSED, "this is a read-only copy: nothing can be built here"
        )
    if seen.owned == seen.tables:
        return Readiness(name, SourceState.ON, f"indexes can be tried on all {seen.tables} tables")
    return Readiness(
        name,
        SourceState.PARTLY if seen.owned else SourceState.CLOSED,
        f"indexes can be tried on {seen.owned} of {seen.tables} tables",
        rights=("ownership of the other tables",),
    )
