"""Tables of a target whose planning alone runs functions of their owners.

Parts of an index's expression or condition, and of a statistics object's, that depend on no row
are computed whenever a statement on the table is planned, with the rights of whoever plans it. The
owner of a table may have written such a function for that. A statement of the user's own is theirs
to ask about; what is read of every table must not be the way.
"""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.hollow.outline import Relation

# The server's own functions are in no dependency; those of extensions its administrator let in.
_TABLES_SQL = """
WITH used AS (
    SELECT i.indrelid AS of, d.refclassid, d.refobjid
    FROM pg_index i JOIN pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = i.indexrelid
    UNION
    SELECT e.stxrelid, d.refclassid, d.refobjid
    FROM pg_statistic_ext e JOIN pg_depend d
         ON d.classid = 'pg_statistic_ext'::regclass AND d.objid = e.oid
)
SELECT DISTINCT n.nspname, t.relname
FROM used u JOIN pg_class t ON t.oid = u.of JOIN pg_namespace n ON n.oid = t.relnamespace
JOIN pg_roles o ON o.oid = t.relowner
WHERE u.refclassid IN ('pg_proc'::regclass, 'pg_operator'::regclass)
  AND o.rolname <> current_user AND NOT o.rolsuper
  AND NOT EXISTS (SELECT FROM pg_depend e WHERE e.classid = u.refclassid
                    AND e.objid = u.refobjid AND e.deptype = 'e')
"""


def run_others_functions(
    connection: Connection, relations: Sequence[Relation]
) -> frozenset[tuple[str, str]]:
    """Those of the tables, by schema and name, that are not to be planned about unasked."""
    of = {relation.of for relation in relations}
    rows = connection.execute(_TABLES_SQL).fetchall()
    return frozenset((str(s), str(t)) for s, t in rows if (str(s), str(t)) in of)
