"""What a tree of enclosing shapes can be searched by, for the types that have one.

Asked once of each type, not of each column.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from psycopg import Cursor

# Operators are those of the type's default operator class; functions as far as they ask the
# server for such an index themselves (by a planner support function).
_SHAPES_SQL = """
SELECT t.oid AS type_oid,
       array_agg(DISTINCT o.oprname::text) FILTER (WHERE p.amoppurpose = 's') AS finding,
       array_agg(DISTINCT o.oprname::text) FILTER (WHERE p.amoppurpose = 'o') AS near,
       (SELECT array_agg(DISTINCT f.proname::text) FROM pg_proc f
         WHERE f.prosupport <> 0 AND f.prorettype = 'boolean'::regtype
           AND f.pronamespace <> 'pg_catalog'::regnamespace
           AND t.oid = ANY (f.proargtypes)) AS functions
FROM pg_type t
JOIN pg_opclass k ON k.opcdefault AND k.opcintype IN (t.oid, CASE t.typtype
    WHEN 'r' THEN 'anyrange'::regtype WHEN 'm' THEN to_regtype('anymultirange') END)
JOIN pg_am m ON m.oid = k.opcmethod AND m.amname = 'gist'
JOIN pg_amop p ON p.amopfamily = k.opcfamily AND p.amoplefttype = k.opcintype
JOIN pg_operator o ON o.oid = p.amopopr
WHERE t.oid = ANY(%s) AND t.typcategory NOT IN ('N', 'B', 'D', 'E', 'S', 'T')
  -- What an index in the order of the values finds, too, asks for no shape.
  AND (t.typtype IN ('r', 'm') OR p.amopopr NOT IN (
        SELECT s.amopopr FROM pg_amop s JOIN pg_am sm ON sm.oid = s.amopmethod
        WHERE sm.amname = 'btree'))
GROUP BY t.oid, t.typtype
"""
# The types that an index can keep in an order: by their own operator class, by that of the type
# they are kept as, or by one for all of their kind (elements and parts may yet have none).
_SORTABLE_SQL = """
SELECT DISTINCT t.oid FROM pg_type t
LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
CROSS JOIN LATERAL (VALUES (coalesce(e.oid, t.oid)), (coalesce(e.typbasetype, t.typbasetype)))
    AS kept(oid)
WHERE t.oid = ANY(%s)
  AND (coalesce(e.typtype, t.typtype) IN ('e', 'r', 'm', 'c') OR EXISTS (
      SELECT FROM pg_opclass b JOIN pg_am m ON m.oid = b.opcmethod
      WHERE m.amname = 'btree' AND b.opcdefault
        AND (b.opcintype = kept.oid OR b.opcintype IN (
            SELECT c.casttarget FROM pg_cast c
            WHERE c.castsource = kept.oid AND c.castmethod = 'b' AND c.castcontext = 'i'))))
"""


def add_shapes(
    cursor: Cursor[dict[str, Any]], columns: Mapping[int, Iterable[dict[str, Any]]]
) -> None:
    """Put into the rows of columns what their types can be searched by."""
    types = sorted({row["type_oid"] for rows in columns.values() for row in rows})
    found = {row["type_oid"]: row for row in cursor.execute(_SHAPES_SQL, (types,)).fetchall()}
    in_order = {row["oid"] for row in cursor.execute(_SORTABLE_SQL, (types,)).fetchall()}
    for rows in columns.values():
        for row in rows:
            row.update(found.get(row["type_oid"], {}))
            row["sortable"] = row["type_oid"] in in_order
