"""Oracle's operations with their options, by the names in its plans."""

from __future__ import annotations

from humble_ledger.core.plans.model import Operation

# The first that a line begins with counts.
_BEGINNINGS: tuple[tuple[str, Operation], ...] = (
    ("TABLE ACCESS BY", Operation.ROW_LOOKUP),
    ("TABLE ACCESS CLUSTER", Operation.INDEX_SCAN),
    ("TABLE ACCESS HASH", Operation.INDEX_SCAN),
    ("TABLE ACCESS", Operation.FULL_SCAN),
    ("MAT_VIEW ACCESS BY", Operation.ROW_LOOKUP),
    ("MAT_VIEW", Operation.FULL_SCAN),
    ("INDEX", Operation.INDEX_ONLY_SCAN),
    ("DOMAIN INDEX", Operation.INDEX_ONLY_SCAN),
    ("BITMAP INDEX", Operation.BITMAP_INDEX),
    ("BITMAP", Operation.OTHER),
    ("NESTED LOOPS", Operation.NESTED_LOOP),
    ("HASH JOIN", Operation.HASH_JOIN),
    ("MERGE JOIN", Operation.MERGE_JOIN),
    ("SORT AGGREGATE", Operation.AGGREGATE),
    ("SORT GROUP BY", Operation.AGGREGATE),
    ("HASH GROUP BY", Operation.AGGREGATE),
    ("SORT UNIQUE", Operation.DISTINCT),
    ("HASH UNIQUE", Operation.DISTINCT),
    ("BUFFER SORT", Operation.MATERIALIZE),
    ("SORT", Operation.SORT),
    ("WINDOW", Operation.WINDOW),
    ("COUNT STOPKEY", Operation.LIMIT),
    ("COUNT", Operation.RESULT),
    ("FIRST ROW", Operation.LIMIT),
    ("VIEW", Operation.SUBQUERY),
    ("UNION-ALL", Operation.APPEND),
    ("CONCATENATION", Operation.APPEND),
    ("PARTITION", Operation.APPEND),
    ("UNION", Operation.SET_OPERATION),
    ("MINUS", Operation.SET_OPERATION),
    ("INTERSECTION", Operation.SET_OPERATION),
    ("PX COORDINATOR", Operation.GATHER),
    ("FILTER", Operation.RESULT),
    ("FAST DUAL", Operation.RESULT),
    ("FOR UPDATE", Operation.LOCK_ROWS),
    ("COLLECTION ITERATOR", Operation.FUNCTION_SCAN),
    ("REMOTE", Operation.FUNCTION_SCAN),
    ("EXTERNAL TABLE", Operation.FUNCTION_SCAN),
    ("FIXED TABLE", Operation.FUNCTION_SCAN),
    ("SELECT STATEMENT", Operation.RESULT),
    ("INSERT STATEMENT", Operation.RESULT),
    ("UPDATE STATEMENT", Operation.RESULT),
    ("DELETE STATEMENT", Operation.RESULT),
    ("MERGE STATEMENT", Operation.RESULT),
    ("CREATE", Operation.RESULT),
    ("LOAD AS SELECT", Operation.MODIFY),
    ("LOAD TABLE", Operation.MODIFY),
    ("UPDATE", Operation.MODIFY),
    ("DELETE", Operation.MODIFY),
    ("MERGE", Operation.MODIFY),
    ("MULTI-TABLE INSERT", Operation.MODIFY),
)
_KINDS = ("RIGHT OUTER", "FULL OUTER", "OUTER", "RIGHT SEMI", "SEMI", "RIGHT ANTI", "ANTI")


def operation(words: str) -> Operation:
    """The neutral word for an operation with its options."""
    for beginning, found in _BEGINNINGS:
        if words.startswith(beginning):
            return found
    return Operation.OTHER


def join_type(words: str) -> str:
    """The kind of a join, "Inner" where its line names none."""
    if "CARTESIAN" in words:
        return "Cross"
    return next((kind.title() for kind in _KINDS if f" {kind}" in words), "Inner")
