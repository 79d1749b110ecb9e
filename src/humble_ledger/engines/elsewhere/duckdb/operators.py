"""DuckDB's operators, by the names in its plans."""

from __future__ import annotations

from humble_ledger.core.plans.model import Operation

# Around a plan, not of it.
WRAPPERS = frozenset(("RESULT_COLLECTOR", "EXPLAIN_ANALYZE", "QUERY_ROOT", "QUERY", "EXPLAIN"))
_NAMED = {
    "SEQ_SCAN": Operation.FULL_SCAN,
    "TABLE_SCAN": Operation.FULL_SCAN,
    "INDEX_SCAN": Operation.INDEX_SCAN,
    "CTE_SCAN": Operation.CTE,
    "REC_CTE_SCAN": Operation.CTE,
    "RECURSIVE_CTE_SCAN": Operation.CTE,
    "DUMMY_SCAN": Operation.RESULT,
    "EMPTY_RESULT": Operation.RESULT,
    "COLUMN_DATA_SCAN": Operation.VALUES,
    "EXPRESSION_SCAN": Operation.VALUES,
    "CHUNK_SCAN": Operation.VALUES,
    "HASH_JOIN": Operation.HASH_JOIN,
    "NESTED_LOOP_JOIN": Operation.NESTED_LOOP,
    "BLOCKWISE_NL_JOIN": Operation.NESTED_LOOP,
    "CROSS_PRODUCT": Operation.NESTED_LOOP,
    "PIECEWISE_MERGE_JOIN": Operation.MERGE_JOIN,
    "IE_JOIN": Operation.MERGE_JOIN,
    "ASOF_JOIN": Operation.MERGE_JOIN,
    "LEFT_DELIM_JOIN": Operation.SUBQUERY,
    "RIGHT_DELIM_JOIN": Operation.SUBQUERY,
    "DELIM_JOIN": Operation.SUBQUERY,
    "HASH_GROUP_BY": Operation.AGGREGATE,
    "PERFECT_HASH_GROUP_BY": Operation.AGGREGATE,
    "PARTITIONED_AGGREGATE": Operation.AGGREGATE,
    "UNGROUPED_AGGREGATE": Operation.AGGREGATE,
    "SIMPLE_AGGREGATE": Operation.AGGREGATE,
    "ORDER_BY": Operation.SORT,
    "TOP_N": Operation.SORT,
    "WINDOW": Operation.WINDOW,
    "STREAMING_WINDOW": Operation.WINDOW,
    "LIMIT": Operation.LIMIT,
    "STREAMING_LIMIT": Operation.LIMIT,
    "LIMIT_PERCENT": Operation.LIMIT,
    "UNION": Operation.APPEND,
    "PROJECTION": Operation.RESULT,
    "FILTER": Operation.RESULT,
    "UNNEST": Operation.FUNCTION_SCAN,
    "TABLE_FUNCTION": Operation.FUNCTION_SCAN,
    "INOUT_FUNCTION": Operation.FUNCTION_SCAN,
    "INSERT": Operation.MODIFY,
    "BATCH_INSERT": Operation.MODIFY,
    "UPDATE": Operation.MODIFY,
    "DELETE": Operation.MODIFY,
    "DELETE_OPERATOR": Operation.MODIFY,
    "MERGE_INTO": Operation.MODIFY,
    "CREATE_TABLE_AS": Operation.MODIFY,
    "BATCH_CREATE_TABLE_AS": Operation.MODIFY,
}
HASHED = frozenset(("HASH_GROUP_BY", "PERFECT_HASH_GROUP_BY", "PARTITIONED_AGGREGATE"))


def operation(name: str, kind: str) -> Operation:
    """The neutral word for an operator, by its name or its type."""
    for each in (name, kind):
        if each in _NAMED:
            return _NAMED[each]
    if name.startswith(("READ_", "PARQUET_", "CSV_", "JSON_")) or name.endswith("_SCAN"):
        return Operation.FUNCTION_SCAN
    return Operation.OTHER


def label(name: str) -> str:
    """The name as people read it: "Hash Join"."""
    return name.replace("_", " ").title()
