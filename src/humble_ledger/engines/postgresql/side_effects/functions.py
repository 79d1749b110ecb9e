"""The functions of a database and what is known of each: read from the catalogue once.

A function may act outside of its transaction when it is volatile, or when it is the user's or an
extension's and written in a language that does not show what it does. The server's own are known
by name; so are extensions that only bring types and what is computed from them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from humble_ledger.core.statements.side_effects import SideEffectReason
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.transactions import reading

# Volatile functions of the server that only tell something, or act on nothing but their session.
HARMLESS = frozenset(
    """array_sample array_shuffle bernoulli clock_timestamp current_query currval gen_random_uuid
    lastval pg_available_wal_summaries pg_blocking_pids pg_collation_actual_version
    pg_current_logfile pg_current_wal_flush_lsn pg_current_wal_insert_lsn pg_current_wal_lsn
    pg_control_checkpoint pg_control_init pg_control_recovery pg_control_system
    pg_database_collation_actual_version pg_database_size pg_get_aios
    pg_get_backend_memory_contexts pg_get_loaded_modules pg_get_multixact_members
    pg_get_sequence_data pg_get_shmem_allocations pg_get_shmem_allocations_numa
    pg_get_wait_events pg_get_wal_replay_pause_state pg_get_wal_resource_managers
    pg_get_wal_summarizer_state pg_hba_file_rules pg_ident_file_mappings pg_indexes_size
    pg_is_in_recovery pg_is_wal_replay_paused pg_isolation_test_session_is_blocked
    pg_jit_available pg_last_committed_xact pg_last_wal_receive_lsn pg_last_wal_replay_lsn
    pg_last_xact_replay_timestamp pg_lock_status pg_notification_queue_usage
    pg_partition_ancestors pg_partition_tree pg_prepared_xact pg_relation_size
    pg_replication_origin_progress pg_safe_snapshot_blocking_pids pg_sequence_last_value
    pg_show_all_file_settings pg_show_replication_origin_status pg_sleep pg_sleep_for
    pg_sleep_until pg_stat_clear_snapshot pg_stat_get_backend_io pg_stat_get_backend_wal
    pg_stat_get_io pg_stat_get_recovery_prefetch pg_stat_get_xact_blocks_fetched
    pg_stat_get_xact_blocks_hit pg_stat_get_xact_function_calls
    pg_stat_get_xact_function_self_time pg_stat_get_xact_function_total_time
    pg_stat_get_xact_numscans pg_stat_get_xact_tuples_deleted pg_stat_get_xact_tuples_fetched
    pg_stat_get_xact_tuples_hot_updated pg_stat_get_xact_tuples_inserted
    pg_stat_get_xact_tuples_newpage_updated pg_stat_get_xact_tuples_returned
    pg_stat_get_xact_tuples_updated pg_stat_have_stats pg_table_size pg_tablespace_size
    pg_total_relation_size pg_wal_summary_contents pg_xact_commit_timestamp
    pg_xact_commit_timestamp_origin pg_xact_status random random_normal setseed system timeofday
    txid_status uuidv4 uuidv7""".split()
)
# Not volatile by name, but they read whatever tables and views are named when they run.
DYNAMIC = frozenset(
    """database_to_xml database_to_xml_and_xmlschema schema_to_xml schema_to_xml_and_xmlschema
    table_to_xml table_to_xml_and_xmlschema""".split()
)
# Extensions that bring types and computations only: what is not volatile in them is harmless.
_COMPUTING = frozenset(
    """bloom btree_gin btree_gist citext cube dict_int dict_xsyn earthdistance fuzzystrmatch
    hstore intarray isn ltree pg_trgm pgcrypto postgis postgis_raster seg unaccent uuid-ossp
    vector""".split()
)
_COMPUTED_BY = ("c", "internal", "sql")
_MADE_ANEW = frozenset(  # volatile, since they make something up
    """gen_random_bytes gen_random_uuid gen_salt uuid_generate_v1 uuid_generate_v1mc
    uuid_generate_v4""".split()
)

FIRST_OF_USERS = 16384  # the first object number that is not the server's own
_SERVERS_SQL = """
SELECT p.oid, p.proname FROM pg_proc p
WHERE p.oid < %s AND p.pronamespace = 'pg_catalog'::regnamespace
  AND (p.provolatile = 'v' OR p.proname = ANY(%s))
"""
_USERS_SQL = """
SELECT p.oid, n.nspname, p.proname, p.provolatile, l.lanname, coalesce(e.extname, ''),
    p.pronargs = 1 AND t.typtype IN ('c', 'p') AS of_a_row
FROM pg_proc p
JOIN pg_namespace n ON n.oid = p.pronamespace
JOIN pg_language l ON l.oid = p.prolang
LEFT JOIN pg_type t ON t.oid = p.proargtypes[0]
LEFT JOIN pg_depend d ON d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'e'
LEFT JOIN pg_extension e ON e.oid = d.refobjid
WHERE p.oid >= %s::oid AND p.prorettype <> ALL('{trigger, event_trigger}'::regtype[])
   OR p.oid >= %s AND p.oid IN (SELECT tgfoid FROM pg_trigger WHERE NOT tgisinternal)
"""
# Asked where the user looks for names, so that every name in it is spelt out.
_VISIBLE_SQL = """
SELECT p.oid FROM pg_catalog.pg_proc p
WHERE p.oid >= %s::oid AND pg_catalog.pg_function_is_visible(p.oid)
"""
_AGGREGATES_SQL = """
SELECT aggfnoid::oid, ARRAY[aggtransfn, aggfinalfn, aggcombinefn, aggmtransfn, aggminvtransfn,
    aggmfinalfn]::oid[] FROM pg_aggregate WHERE aggfnoid >= %s
"""
_OPERATORS_SQL = "SELECT oprname, oprcode::oid FROM pg_operator WHERE oid >= %s AND oprcode <> 0"
_CASTS_SQL = """
SELECT c.castfunc::oid, c.castcontext, s.typname, t.typname FROM pg_cast c
JOIN pg_type s ON s.oid = c.castsource JOIN pg_type t ON t.oid = c.casttarget
WHERE c.oid >= %s AND c.castfunc <> 0
"""


@dataclass(frozen=True, slots=True)
class Function:
    """A function of the user's, of an extension, or one of the server's that may act."""

    oid: int
    schema: str
    name: str
    volatile: bool
    language: str = "internal"
    extension: str = ""
    visible: bool = True
    of_a_row: bool = False
    planner_may_call: bool = False

    @property
    def shown(self) -> str:
        """Its name as a user writes it."""
        return self.name if self.schema == "pg_catalog" else f"{self.schema}.{self.name}"

    @property
    def of_server(self) -> bool:
        """Whether it is one of the server's own that may act."""
        return self.schema == "pg_catalog" and self.oid < FIRST_OF_USERS

    @property
    def reason(self) -> SideEffectReason | None:
        """Why it may act outside of its transaction; None when it does not."""
        if self.of_server:
            return SideEffectReason.DYNAMIC if not self.volatile else SideEffectReason.VOLATILE
        computing = self.extension in _COMPUTING and self.language in _COMPUTED_BY
        if self.volatile:
            made = computing and self.name in _MADE_ANEW
            return None if made else SideEffectReason.VOLATILE
        if computing or self.language == "sql":
            return None
        return SideEffectReason.OPAQUE


@dataclass(slots=True)
class Functions:
    """All of them that matter, by number and by name."""

    by_oid: dict[int, Function] = field(default_factory=dict)
    by_name: dict[str, list[Function]] = field(default_factory=dict)
    operators: dict[str, list[int]] = field(default_factory=dict)
    casts: list[tuple[int, str, str, str]] = field(default_factory=list)
    aggregates: Mapping[int, tuple[int, ...]] = field(default_factory=dict)

    @classmethod
    def read(cls, connection: Connection) -> Functions:
        """Ask the catalogue."""
        found = cls()
        with reading(connection), translated():
            asked = connection.execute(_VISIBLE_SQL, (FIRST_OF_USERS,))
            visible = {oid for (oid,) in asked}
        with translated():
            for oid, name in connection.execute(_SERVERS_SQL, (FIRST_OF_USERS, list(DYNAMIC))):
                if name not in HARMLESS:
                    volatile = name not in DYNAMIC
                    found._add(
                        Function(oid, "pg_catalog", name, volatile, planner_may_call=not volatile)
                    )
            for row in connection.execute(_USERS_SQL, (FIRST_OF_USERS, FIRST_OF_USERS)):
                oid, schema, name, volatility, language, extension, of_a_row = row
                found._add(
                    Function(
                        oid,
                        schema,
                        name,
                        volatility == "v",
                        language,
                        extension,
                        oid in visible,
                        bool(of_a_row),
                        volatility != "v",
                    )
                )
            for name, oid in connection.execute(_OPERATORS_SQL, (FIRST_OF_USERS,)):
                found.operators.setdefault(name, []).append(oid)
            found.casts = list(connection.execute(_CASTS_SQL, (FIRST_OF_USERS,)))
            found.aggregates = {
                oid: tuple(each for each in parts if each)
                for oid, parts in connection.execute(_AGGREGATES_SQL, (FIRST_OF_USERS,))
            }
        return found

    def _add(self, function: Function) -> None:
        self.by_oid[function.oid] = function
        self.by_name.setdefault(function.name, []).append(function)

    def called(self, names: Iterable[tuple[str | None, str]]) -> list[Function]:
        """Those that a text may mean by (schema, name); "" is whatever the path makes visible."""
        return [
            each
            for schema, name in names
            for each in self.by_name.get(name, ())
            if schema is None or schema == each.schema or (schema == "" and each.visible)
        ]
