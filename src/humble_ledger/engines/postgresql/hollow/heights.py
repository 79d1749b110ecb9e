"""How long the files of relations are, and how many levels a b-tree of the target has by that."""

from __future__ import annotations

from collections.abc import Sequence

from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.costs.sizes import levels_above
from humble_ledger.engines.postgresql.hollow.files import RelationFiles
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.standing import place_of_file

# The first key of an index: its length when fixed, else the mean width that statistics tell.
_FIRST_KEY_SQL = """
SELECT CASE WHEN a.attlen > 0 THEN a.attlen ELSE coalesce(s.stawidth, 16) END, i.indnkeyatts
FROM pg_index i
JOIN pg_attribute a ON a.attrelid = i.indexrelid AND a.attnum = 1
LEFT JOIN pg_statistic s ON s.starelid = i.indrelid AND s.staattnum = i.indkey[0]
     AND NOT s.stainherit
WHERE i.indexrelid = %s::regclass
"""


def levels_of(admin: Connection, relation: Relation) -> int:
    """The levels above the leaves; on the hollow, where the index stands already."""
    place = sql.Identifier(relation.schema, relation.name).as_string(None)
    row = admin.execute(_FIRST_KEY_SQL, (place,)).fetchone()
    width, keys = (float(str(row[0])), int(str(row[1]))) if row else (8.0, 1)
    return levels_above(max(1, relation.pages - 1), width, keys)


def give_files(files: RelationFiles, admin: Connection, relations: Sequence[Relation]) -> None:
    """Let the files of relations that were just built over next to nothing be as long as theirs."""
    for relation in relations:
        if relation.kind not in "rmi" or not relation.pages:
            continue
        file = place_of_file(admin, relation.schema, relation.name)
        if not file:
            continue
        if relation.method == "btree":
            files.grow_b_tree(file, relation.pages, levels_of(admin, relation))
        else:
            files.resize(file, relation.pages)
