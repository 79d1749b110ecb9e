"""Facts from PostgreSQL's catalogue: tables, columns with statistics, indexes, settings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from psycopg.rows import dict_row

from humble_ledger.core.estimates.known_values import ColumnValues
from humble_ledger.core.schema.facts import (
    SYSTEM,
    ColumnFacts,
    ForeignKey,
    HeapFacts,
    IndexFacts,
    IndexKey,
    Reads,
    ServerFacts,
    TableFacts,
    TableName,
    Writes,
)
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.partitions import add_wholes
from humble_ledger.engines.postgresql.shape_types import add_shapes
from humble_ledger.engines.postgresql.transactions import reading

_OWN_SCHEMAS = ("pg_catalog", "information_schema", "pg_toast")
_KINDS = {"r": "table", "p": "partitioned", "v": "view", "m": "materialized view", "f": "foreign"}
_ALIGNMENTS = {"c": 1, "s": 2, "i": 4, "d": 8}
_UNITS = {"B": 1, "kB": 1024, "8kB": 8192, "MB": 1024**2, "GB": 1024**3}
_DESCENDING, _NULLS_FIRST = 1, 2
_Rows = Mapping[int, list[dict[str, Any]]]

_SETTINGS_SQL = """
SELECT name, setting, unit FROM pg_settings
WHERE name IN ('seq_page_cost', 'random_page_cost', 'cpu_tuple_cost', 'cpu_index_tuple_cost',
    'cpu_operator_cost', 'parallel_setup_cost', 'parallel_tuple_cost', 'effective_cache_size',
    'work_mem', 'hash_mem_multiplier', 'max_parallel_workers_per_gather', 'shared_buffers',
    'block_size', 'default_statistics_target', 'jit_above_cost', 'max_parallel_workers',
    'track_activity_query_size')
"""

_TABLES_SQL = """
SELECT c.oid, n.nspname AS schema, c.relname AS name, c.relkind AS kind,
       c.reltuples AS rows,
       CASE WHEN c.reltoastrelid <> 0 THEN pg_total_relation_size(c.reltoastrelid) ELSE 0 END
           AS overflow,
       s.seq_scan, s.seq_tup_read, s.idx_scan, s.idx_tup_fetch,
       greatest(s.last_vacuum, s.last_autovacuum) AS vacuumed_at,
       coalesce((SELECT d.stats_reset FROM pg_stat_database d
                 WHERE d.datname = current_database()), pg_postmaster_start_time())
           AS counted_since,
       coalesce((SELECT option_value::int FROM pg_options_to_table(c.reloptions)
                 WHERE option_name = 'fillfactor'), 100) AS fill,
       coalesce((SELECT option_value::float8 FROM pg_options_to_table(c.reloptions)
                 WHERE option_name = 'autovacuum_analyze_threshold'),
                current_setting('autovacuum_analyze_threshold')::float8)
         + coalesce((SELECT option_value::float8 FROM pg_options_to_table(c.reloptions)
                     WHERE option_name = 'autovacuum_analyze_scale_factor'),
                    current_setting('autovacuum_analyze_scale_factor')::float8)
           * greatest(c.reltuples, 0) AS stale_after,
       c.relpages AS catalogue_pages, c.relallvisible AS visible,
       CASE WHEN c.relkind IN ('r', 'm') THEN pg_relation_size(c.oid) ELSE 0 END AS bytes,
       s.n_tup_ins, s.n_tup_upd, s.n_tup_hot_upd, s.n_tup_del, s.n_dead_tup,
       greatest(s.last_analyze, s.last_autoanalyze) AS analyzed_at, s.n_mod_since_analyze,
       c.root_oid::oid AS root_oid,
       (SELECT ARRAY[rn.nspname::text, rc.relname::text] FROM pg_class rc
          JOIN pg_namespace rn ON rn.oid = rc.relnamespace WHERE rc.oid = c.root_oid) AS root_name,
       (SELECT count(*) FROM pg_partition_tree(c.root_oid) WHERE isleaf) AS leaves
FROM (SELECT *, CASE WHEN relispartition THEN pg_partition_root(oid) END AS root_oid
      FROM pg_class) c
JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_stat_all_tables s ON s.relid = c.oid
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f')
  AND (n.nspname, c.relname) IN (SELECT * FROM unnest(%s::text[], %s::text[]))
"""

DEFAULT_SCHEMA = "public"

# Whether a collation compares texts byte by byte: the server's own providers do, those of the
# operating system for these two locales. A collation of a database may be any of them.
_BY_BYTES_SQL = """
(SELECT CASE l.collprovider WHEN 'b' THEN true WHEN 'c' THEN l.collcollate IN ('C', 'POSIX')
             WHEN 'd' THEN (SELECT CASE coalesce(to_jsonb(d) ->> 'datlocprovider', 'c')
                                   WHEN 'b' THEN true
                                   WHEN 'c' THEN d.datcollate IN ('C', 'POSIX') ELSE false END
                            FROM pg_database d WHERE d.datname = current_database())
             ELSE false END
 FROM pg_collation l WHERE l.oid = {oid})
"""

_COLUMNS_SQL = """
SELECT a.attrelid AS oid, a.attname AS name,
       a.attnum AS position, a.attnotnull AS not_null, a.attlen AS length,
       a.attalign AS alignment, s.avg_width, s.null_frac, s.n_distinct, s.correlation,
       s.most_common_freqs[1] AS top,
       coalesce(cardinality(s.most_common_freqs), 0) AS common_count,
       coalesce((SELECT sum(f) FROM unnest(s.most_common_freqs) AS f), 0) AS common_share,
       coalesce(s.most_common_freqs[cardinality(s.most_common_freqs)], 0) AS rarest,
       CASE WHEN coalesce(a.attstattarget, -1) < 0
            THEN current_setting('default_statistics_target')::int ELSE a.attstattarget END
           AS target,
       CASE WHEN a.attcollation = 0 THEN ''
            ELSE (SELECT CASE WHEN l.collname = 'default'
                              THEN (SELECT datcollate FROM pg_database
                                    WHERE datname = current_database())
                              ELSE l.collname END
                  FROM pg_collation l WHERE l.oid = a.attcollation) END AS collation,
       coalesce({by_bytes}, true) AS sorted_by_bytes,
       (SELECT format_type(y.typbasetype, y.typtypmod) FROM pg_type y
         WHERE y.oid = a.atttypid AND y.typtype = 'd') AS base_type,
       (SELECT y.typtype = 'e' FROM pg_type y WHERE y.oid = a.atttypid) AS labelled,
       a.atttypid AS type_oid
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = c.relname
                    AND s.attname = a.attname AND s.inherited = (c.relkind = 'p')
WHERE a.attrelid = ANY(%s) AND a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attrelid, a.attnum
"""

_INDEXES_SQL = """
SELECT i.indrelid AS oid, c.relname AS name, m.amname AS method, i.indisunique AS is_unique,
       i.indisprimary AS is_primary, c.relispartition AS attached, i.indisvalid AS valid,
       i.indnkeyatts AS key_count, i.indoption::int2[] AS options, i.indexrelid AS number,
       CASE WHEN c.relkind = 'I' THEN (SELECT sum(pg_relation_size(t.relid))::bigint
                                         FROM pg_partition_tree(c.oid) t WHERE t.isleaf)
            ELSE pg_relation_size(i.indexrelid) END AS bytes,
       s.idx_scan AS scans, {last_scan} AS last_scan,
       EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid
                 AND k.contype IN ('p', 'u', 'x')) AS in_constraint,
       (SELECT array_agg(CASE WHEN o.opcdefault THEN '' ELSE o.opcname END ORDER BY k.place)
          FROM unnest(i.indclass::oid[]) WITH ORDINALITY AS k(oid, place)
          JOIN pg_opclass o ON o.oid = k.oid) AS classes,
       (SELECT array_agg(CASE WHEN l.oid IS NULL OR l.collname = 'default' OR l.oid = a.attcollation
                              THEN '' ELSE l.collname END ORDER BY k.place)
          FROM unnest(i.indcollation::oid[], i.indkey::int2[])
               WITH ORDINALITY AS k(oid, number, place)
          LEFT JOIN pg_collation l ON l.oid = k.oid
          LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number
         WHERE k.place <= i.indnkeyatts) AS collations,
       (SELECT array_agg(coalesce({by_bytes}, true) ORDER BY k.place)
          FROM unnest(i.indcollation::oid[]) WITH ORDINALITY AS k(oid, place)
         WHERE k.place <= i.indnkeyatts) AS by_bytes,
       (SELECT array_agg(coalesce(a.attname, '') ORDER BY k.place)
          FROM unnest(i.indkey::int2[]) WITH ORDINALITY AS k(number, place)
          LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number
                                  AND k.number > 0) AS columns
FROM pg_index i
JOIN pg_class c ON c.oid = i.indexrelid
JOIN pg_am m ON m.oid = c.relam
LEFT JOIN pg_stat_all_indexes s ON s.indexrelid = i.indexrelid
WHERE i.indrelid = ANY(%s)
ORDER BY i.indrelid, c.relname
"""

# What is printed depends on where names are looked for, and must be as in a plan. So these are
# asked where the user looks, with every name and type spelt out: nothing there can stand in.
_PRINTED_TYPES_SQL = """
SELECT attrelid, attnum, pg_catalog.format_type(atttypid, atttypmod)
FROM pg_catalog.pg_attribute WHERE attrelid = ANY(%s::oid[]) AND NOT attisdropped
"""
_PRINTED_INDEXES_SQL = """
SELECT i.indexrelid, pg_catalog.pg_get_expr(i.indpred, i.indrelid),
       pg_catalog.pg_get_indexdef(i.indexrelid),
       ARRAY(SELECT pg_catalog.pg_get_indexdef(i.indexrelid, place, true)
             FROM pg_catalog.generate_series(1, i.indnatts::int4) AS place ORDER BY place)
FROM pg_catalog.pg_index i WHERE i.indrelid = ANY(%s::oid[])
"""
_PRINTED_TABLES_SQL = """
SELECT c.oid, c.oid::regclass::text FROM pg_catalog.pg_class c WHERE c.oid = ANY(%s::oid[])
"""

# The last use of an index is known from this version on.
_LAST_SCAN_FROM = 160000

_FOREIGN_KEYS_SQL = """
SELECT k.conrelid AS oid, k.conname AS name, n.nspname AS schema, c.relname AS refers_to,
       (SELECT array_agg(a.attname::text ORDER BY p.place)
          FROM unnest(k.conkey) WITH ORDINALITY AS p(number, place)
          JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = p.number) AS columns,
       (SELECT array_agg(a.attname::text ORDER BY p.place)
          FROM unnest(k.confkey) WITH ORDINALITY AS p(number, place)
          JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = p.number) AS others,
       k.confdeltype AS on_delete, k.convalidated AS holds
FROM pg_constraint k
JOIN pg_class c ON c.oid = k.confrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE k.contype = 'f' AND k.conrelid = ANY(%s)
ORDER BY k.conrelid, k.conname
"""
_ON_DELETE = {
    "a": "no action",
    "r": "restrict",
    "c": "cascade",
    "n": "set null",
    "d": "set default",
}

_USER_TABLES_SQL = """
SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'm') AND n.nspname NOT LIKE 'pg\\_%'
  AND n.nspname <> 'information_schema'
  AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass
                    AND d.objid = c.oid AND d.deptype = 'e')
ORDER BY 1, 2
"""

_VALUES_SQL = """
SELECT most_common_vals::text::text[], most_common_freqs::float8[], histogram_bounds::text::text[]
FROM pg_stats WHERE schemaname = %s AND tablename = %s AND attname = %s
ORDER BY inherited DESC LIMIT 1
"""


def server_facts(connection: Connection) -> ServerFacts:
    """The server behind this connection."""
    with translated(), connection.cursor(row_factory=dict_row) as cursor:
        cursor.execute(
            "SELECT current_database() AS database, current_user AS user_name, "
            "pg_is_in_recovery() AS recovering, current_setting('server_version') AS version, "
            "current_setting('is_superuser') = 'on' AS superuser, "
            "current_setting('log_line_prefix') AS prefix, "
            "current_setting('cluster_name') AS cluster"
        )
        top = cursor.fetchone()
        assert top is not None
        settings = {
            row["name"]: float(row["setting"]) * _UNITS.get(row["unit"] or "", 1)
            for row in cursor.execute(_SETTINGS_SQL)
        }
    return ServerFacts(
        engine="postgresql",
        version=str(top["version"]).split(" ", maxsplit=1)[0],
        version_number=connection.info.server_version,
        database=top["database"],
        user=top["user_name"],
        read_only_copy=top["recovering"],
        superuser=top["superuser"],
        default_schema=DEFAULT_SCHEMA,
        settings=settings,
        texts={"log_line_prefix": top["prefix"]},
    )


def table_facts(connection: Connection, names: Iterable[TableName]) -> dict[TableName, TableFacts]:
    """Facts about these tables; names the catalogue does not know are left out."""
    wanted = sorted({(name.schema, name.name) for name in names})
    if not wanted:
        return {}
    with translated(), connection.cursor(row_factory=dict_row) as cursor:
        tables = cursor.execute(
            _TABLES_SQL, ([schema for schema, _ in wanted], [name for _, name in wanted])
        ).fetchall()
        oids = [row["oid"] for row in tables]
        asked = _COLUMNS_SQL.format(by_bytes=_BY_BYTES_SQL.format(oid="a.attcollation"))
        columns = _grouped(cursor.execute(asked, (oids,)).fetchall())
        newer = connection.info.server_version >= _LAST_SCAN_FROM
        asked = _INDEXES_SQL.format(
            last_scan="s.last_idx_scan" if newer else "NULL",
            by_bytes=_BY_BYTES_SQL.format(oid="k.oid"),
        )
        indexes = _grouped(cursor.execute(asked.encode(), (oids,)).fetchall())
        keys = _grouped(cursor.execute(_FOREIGN_KEYS_SQL, (oids,)).fetchall())
        add_shapes(cursor, columns)
        add_wholes(cursor, tables, columns)
    _print(connection, tables, columns, indexes)
    page = connection.info.parameter_status("block_size")
    page_bytes = int(page) if page else 8192
    found = (_table(row, columns, indexes, keys, page_bytes) for row in tables)
    return {table.name: table for table in found}


def _print(
    connection: Connection, tables: list[dict[str, Any]], columns: _Rows, indexes: _Rows
) -> None:
    """Add what the server prints of types, expressions and tables, as it does in a plan."""
    oids = [row["oid"] for row in tables]
    roots = [row["root_oid"] for row in tables if row["root_oid"]]
    with reading(connection), translated():
        types = {
            (oid, place): text
            for oid, place, text in connection.execute(_PRINTED_TYPES_SQL, (oids,))
        }
        printed = {row[0]: row[1:] for row in connection.execute(_PRINTED_INDEXES_SQL, (oids,))}
        asked = connection.execute(_PRINTED_TABLES_SQL, (roots,))
        names = {oid: str(text) for oid, text in asked}
    for row in tables:
        row["root"] = names.get(row["root_oid"])
    for rows in columns.values():
        for row in rows:
            row["type"] = types[row["oid"], row["position"]]
    for rows in indexes.values():
        for row in rows:
            row["predicate"], row["definition"], row["printed"] = printed[row["number"]]


def volatile_functions(connection: Connection, names: Iterable[str]) -> frozenset[str]:
    """Those of the functions that are VOLATILE, in every form that has this name."""
    wanted = sorted(set(names))
    if not wanted:
        return frozenset()
    with translated():
        rows = connection.execute(
            "SELECT proname::text FROM pg_proc WHERE proname::text = ANY(%s) "
            "GROUP BY 1 HAVING bool_and(provolatile = 'v')",
            (wanted,),
        ).fetchall()
    return frozenset(row[0] for row in rows)


def user_tables(connection: Connection) -> list[TableName]:
    """The tables of this database that are the user's own: no system's, no extension's."""
    with translated(), connection.cursor() as cursor:
        rows = cursor.execute(_USER_TABLES_SQL.encode()).fetchall()
    return [TableName(schema, name) for schema, name in rows]


def column_values(connection: Connection, table: TableName, column: str) -> ColumnValues:
    """The common values and the histogram of a column, of all partitions together."""
    with translated(), connection.cursor() as cursor:
        row = cursor.execute(_VALUES_SQL, (table.schema, table.name, column)).fetchone()
    if row is None:
        return ColumnValues()
    values, shares, histogram = (list(part or ()) for part in row)
    return ColumnValues(tuple(zip(values, shares, strict=True)), tuple(histogram))


def _grouped(rows: list[dict[str, Any]]) -> dict[int, list[dict[str, Any]]]:
    groups: dict[int, list[dict[str, Any]]] = {}
    for row in rows:
        groups.setdefault(row["oid"], []).append(row)
    return groups


def _table(
    row: Mapping[str, Any],
    columns: _Rows,
    indexes: _Rows,
    foreign_keys: _Rows,
    page_bytes: int,
) -> TableFacts:
    oid = row["oid"]
    pages = -(-int(row["bytes"]) // page_bytes)
    return TableFacts(
        name=TableName(row["schema"], row["name"]),
        kind=SYSTEM if row["schema"] in _OWN_SCHEMAS else _KINDS[row["kind"]],
        rows=_rows_now(row, pages),
        pages=pages,
        size_bytes=int(row["bytes"]),
        page_bytes=page_bytes,
        columns={each["name"]: _column(each) for each in columns.get(oid, [])},
        indexes=tuple(_index(each, page_bytes) for each in indexes.get(oid, [])),
        writes=Writes(
            int(row["n_tup_ins"] or 0),
            int(row["n_tup_upd"] or 0),
            int(row["n_tup_hot_upd"] or 0),
            int(row["n_tup_del"] or 0),
        ),
        analyzed_at=row["analyzed_at"],
        changes_since_analyze=row["n_mod_since_analyze"],
        stale_after_changes=row["stale_after"],
        rows_counted=max(0.0, float(row["rows"])),
        partition_of=row["root"] or "",
        partitions=int(row["leaves"] or 0),
        root=TableName(*row["root_name"]) if row["root_name"] else None,
        parts=_parts(row),
        overflow_bytes=int(row["overflow"]),
        reads=Reads(
            int(row["seq_scan"] or 0),
            int(row["seq_tup_read"] or 0),
            int(row["idx_scan"] or 0),
            int(row["idx_tup_fetch"] or 0),
        ),
        foreign_keys=tuple(_foreign_key(each) for each in foreign_keys.get(oid, [])),
        counted_since=row["counted_since"],
        storage=HeapFacts(
            min(1.0, row["visible"] / pages) if pages else 0.0,
            int(row["n_dead_tup"] or 0),
            row["vacuumed_at"],
            int(row["fill"]),
        ),
    )


def _parts(row: Mapping[str, Any]) -> tuple[TableName, ...] | None:
    """The partitions of a partitioned table; None when these are parted again."""
    if row.get("nested"):
        return None
    return tuple(TableName(*part) for part in row.get("parts", ()))


def _foreign_key(row: Mapping[str, Any]) -> ForeignKey:
    return ForeignKey(
        row["name"],
        tuple(row["columns"]),
        TableName(row["schema"], row["refers_to"]),
        tuple(row["others"]),
        _ON_DELETE[row["on_delete"]],
        bool(row["holds"]),
    )


def _rows_now(row: Mapping[str, Any], pages: int) -> float:
    """The planner's own scaling: rows per page when last counted × pages now."""
    counted, then = float(row["rows"]), int(row["catalogue_pages"])
    if counted < 0 or then == 0:
        return max(counted, 0.0)
    return float(round(counted / then * pages)) if pages else counted


def _column(row: Mapping[str, Any]) -> ColumnFacts:
    return ColumnFacts(
        name=row["name"],
        type_name=row["type"],
        position=row["position"],
        not_null=row["not_null"],
        length_bytes=row["length"],
        alignment_bytes=_ALIGNMENTS.get(row["alignment"], 4),
        mean_width_bytes=row["avg_width"],
        null_share=row["null_frac"],
        distinct=row["n_distinct"],
        correlation=row["correlation"],
        top_share=row["top"],
        common_count=int(row["common_count"]),
        common_share=float(row["common_share"]),
        rarest_share=float(row["rarest"]),
        target=row["target"],
        collation=row["collation"] or "",
        sorted_by_bytes=bool(row["sorted_by_bytes"]),
        base_type=row["base_type"] or "",
        labelled=bool(row["labelled"]),
        enclosing_operators=frozenset(row.get("finding") or ()),
        enclosing_functions=frozenset(row.get("functions") or ()),
        nearness_operators=frozenset(row.get("near") or ()),
        sortable=bool(row.get("sortable", True)),
        distinct_in_parts=row.get("distinct_in_parts"),
    )


def _index(row: Mapping[str, Any], page_bytes: int) -> IndexFacts:
    count = row["key_count"]
    keys = tuple(
        IndexKey(
            column=column,
            expression="" if column else printed,
            descending=bool(option & _DESCENDING),
            nulls_first=bool(option & _NULLS_FIRST),
            operator_class=class_,
            collation=collation,
            sorted_by_bytes=by_bytes,
        )
        for column, printed, option, class_, collation, by_bytes in zip(
            row["columns"][:count],
            row["printed"][:count],
            row["options"],
            row["classes"],
            row["collations"],
            row["by_bytes"],
            strict=True,
        )
    )
    return IndexFacts(
        name=row["name"],
        method=row["method"],
        keys=keys,
        included=tuple(row["columns"][count:]),
        unique=row["is_unique"],
        primary=row["is_primary"],
        valid=row["valid"],
        predicate=row["predicate"] or "",
        definition=row["definition"],
        size_bytes=int(row["bytes"]),
        pages=-(-int(row["bytes"]) // page_bytes),
        scans=row["scans"],
        last_scan=row["last_scan"],
        constraint=row["in_constraint"],
        attached=row["attached"],
    )


_OWNS_SQL = """
SELECT pg_has_role(c.relowner, 'USAGE')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = %s AND c.relname = %s
"""


def owns(connection: Connection, table: TableName) -> bool:
    """Whether the table belongs to us or to a role of ours; True for one that is not there."""
    with translated():
        row = connection.execute(_OWNS_SQL, (table.schema, table.name)).fetchone()
    return row is None or bool(row[0])
