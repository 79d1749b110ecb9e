"""What partitioned tables have in all their partitions, for the facts about them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from psycopg import Cursor

# Named as the figures of a single table are; the oldest vacuum counts for all.
_WHOLES_SQL = """
SELECT o.oid, count(*) AS leaves, max(t.level) > 1 AS nested,
       array_agg(ARRAY[n.nspname::text, l.relname::text] ORDER BY n.nspname, l.relname) AS parts,
       sum(greatest(l.reltuples, 0))::float8 AS rows, sum(l.relpages)::bigint AS catalogue_pages,
       sum(l.relallvisible)::bigint AS visible, sum(pg_relation_size(l.oid))::bigint AS bytes,
       sum(CASE WHEN l.reltoastrelid <> 0 THEN pg_total_relation_size(l.reltoastrelid) ELSE 0 END)
           ::bigint AS overflow,
       sum(s.seq_scan)::bigint AS seq_scan, sum(s.seq_tup_read)::bigint AS seq_tup_read,
       sum(s.idx_scan)::bigint AS idx_scan, sum(s.idx_tup_fetch)::bigint AS idx_tup_fetch,
       sum(s.n_tup_ins)::bigint AS n_tup_ins, sum(s.n_tup_upd)::bigint AS n_tup_upd,
       sum(s.n_tup_hot_upd)::bigint AS n_tup_hot_upd, sum(s.n_tup_del)::bigint AS n_tup_del,
       sum(s.n_dead_tup)::bigint AS n_dead_tup,
       CASE WHEN bool_and(coalesce(s.last_vacuum, s.last_autovacuum) IS NOT NULL)
            THEN min(greatest(s.last_vacuum, s.last_autovacuum)) END AS vacuumed_at
FROM unnest(%s::oid[]) AS o(oid)
CROSS JOIN LATERAL pg_partition_tree(o.oid) t
JOIN pg_class l ON l.oid = t.relid JOIN pg_namespace n ON n.oid = l.relnamespace
LEFT JOIN pg_stat_all_tables s ON s.relid = l.oid
WHERE t.isleaf GROUP BY o.oid
"""
# A value of one partition counts again in each other that has it.
_DISTINCT_SQL = """
SELECT o.oid, s.attname AS name,
       sum(CASE WHEN s.n_distinct < 0 THEN -s.n_distinct * greatest(l.reltuples, 0)
                ELSE s.n_distinct END)::float8 AS distinct_in_parts
FROM unnest(%s::oid[]) AS o(oid)
CROSS JOIN LATERAL pg_partition_tree(o.oid) t
JOIN pg_class l ON l.oid = t.relid JOIN pg_namespace n ON n.oid = l.relnamespace
JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = l.relname AND NOT s.inherited
WHERE t.isleaf GROUP BY 1, 2
"""


def add_wholes(
    cursor: Cursor[dict[str, Any]],
    tables: Sequence[dict[str, Any]],
    columns: Mapping[int, Sequence[dict[str, Any]]],
) -> None:
    """Put the figures of all partitions into the rows of partitioned tables and their columns."""
    oids = [row["oid"] for row in tables if row["kind"] == "p"]
    if not oids:
        return
    wholes = {row["oid"]: row for row in cursor.execute(_WHOLES_SQL, (oids,)).fetchall()}
    distinct = {
        (row["oid"], row["name"]): row["distinct_in_parts"]
        for row in cursor.execute(_DISTINCT_SQL, (oids,)).fetchall()
    }
    for row in tables:
        row.update(wholes.get(row["oid"], {}))
    for oid in oids:
        for row in columns.get(oid, ()):
            row["distinct_in_parts"] = distinct.get((oid, row["name"]))
