"""PostgreSQL's EXPLAIN (FORMAT JSON) to the neutral plan; no server is needed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from humble_ledger.core.plans.model import (
    Conditions,
    Cost,
    Discarded,
    Elapsed,
    Memory,
    Node,
    Operation,
    Pages,
    Plan,
    Processes,
    Role,
    Trigger,
)
from humble_ledger.errors import UnreadableInput

ENGINE = "postgresql"

OPERATIONS: dict[str, Operation] = {
    "Seq Scan": Operation.FULL_SCAN,
    "Sample Scan": Operation.FULL_SCAN,
    "Index Scan": Operation.INDEX_SCAN,
    "Index Only Scan": Operation.INDEX_ONLY_SCAN,
    "Bitmap Heap Scan": Operation.BITMAP_SCAN,
    "Bitmap Index Scan": Operation.BITMAP_INDEX,
    "BitmapAnd": Operation.BITMAP_INDEX,
    "BitmapOr": Operation.BITMAP_INDEX,
    "Tid Scan": Operation.ROW_LOOKUP,
    "Tid Range Scan": Operation.ROW_LOOKUP,
    "Function Scan": Operation.FUNCTION_SCAN,
    "Table Function Scan": Operation.FUNCTION_SCAN,
    "Values Scan": Operation.VALUES,
    "Nested Loop": Operation.NESTED_LOOP,
    "Hash Join": Operation.HASH_JOIN,
    "Merge Join": Operation.MERGE_JOIN,
    "Hash": Operation.HASH,
    "Sort": Operation.SORT,
    "Incremental Sort": Operation.INCREMENTAL_SORT,
    "Aggregate": Operation.AGGREGATE,
    "Group": Operation.GROUP,
    "Unique": Operation.DISTINCT,
    "WindowAgg": Operation.WINDOW,
    "Limit": Operation.LIMIT,
    "Append": Operation.APPEND,
    "Merge Append": Operation.APPEND,
    "Recursive Union": Operation.SET_OPERATION,
    "SetOp": Operation.SET_OPERATION,
    "Materialize": Operation.MATERIALIZE,
    "Memoize": Operation.MEMOIZE,
    "CTE Scan": Operation.CTE,
    "WorkTable Scan": Operation.CTE,
    "Named Tuplestore Scan": Operation.CTE,
    "Subquery Scan": Operation.SUBQUERY,
    "Gather": Operation.GATHER,
    "Gather Merge": Operation.GATHER,
    "LockRows": Operation.LOCK_ROWS,
    "ModifyTable": Operation.MODIFY,
    "Result": Operation.RESULT,
    "ProjectSet": Operation.RESULT,
}
_ROLES = {
    "Outer": Role.OUTER,
    "Inner": Role.INNER,
    "Member": Role.MEMBER,
    "SubPlan": Role.SUBPLAN,
    "InitPlan": Role.INIT_PLAN,
    "Subquery": Role.OUTER,
}
_AGGREGATES = {"Hashed": "HashAggregate", "Sorted": "GroupAggregate", "Mixed": "MixedAggregate"}
_KIB = 1024

# What is read into a field of its own; everything else goes to ``details``.
_TAKEN = frozenset(
    """Plan|Plans|Node Type|Parent Relationship|Schema|Relation Name|Alias|Index Name
    |Subplan Name|Join Type|Startup Cost|Total Cost|Plan Rows|Plan Width|Actual Startup Time
    |Actual Total Time|Actual Rows|Actual Loops|Rows Removed by Filter
    |Rows Removed by Join Filter|Rows Removed by Index Recheck|Index Cond|TID Cond|Filter
    |One-Time Filter|Join Filter|Hash Cond|Merge Cond|Recheck Cond|Order By|Sort Key|Presorted Key
    |Group Key|Grouping Sets|Output|Parallel Aware|Workers|Workers Planned|Workers Launched
    |Shared Hit Blocks|Shared Read Blocks|Shared Dirtied Blocks|Shared Written Blocks
    |Local Hit Blocks
    |Local Read Blocks|Local Dirtied Blocks|Local Written Blocks|Temp Read Blocks
    |Temp Written Blocks""".replace("\n", "")
    .replace("    ", "")
    .split("|")
)


def read_plan(document: object, version: str) -> Plan:
    """Read the JSON document of one EXPLAIN, as parsed by any JSON reader.

    ``version`` is the server's, "" when it is not known.

    Raises:
        UnreadableInput: this is not such a document; the message names what is missing.
    """
    if isinstance(document, list) and len(document) == 1:
        document = document[0]
    if not isinstance(document, Mapping) or not isinstance(document.get("Plan"), Mapping):
        raise UnreadableInput(
            "This is not a PostgreSQL plan: no object with a «Plan» in it.",
            "Save it with  EXPLAIN (ANALYZE, BUFFERS, VERBOSE, FORMAT JSON) …",
        )
    try:
        return _plan(document, version)
    except (AttributeError, TypeError, ValueError, KeyError, RecursionError) as error:
        raise UnreadableInput(
            f"This looks like a PostgreSQL plan, but a part of it is not as a server writes it: "
            f"{error}.",
            "Save it anew with  EXPLAIN (ANALYZE, BUFFERS, VERBOSE, FORMAT JSON) …",
        ) from error


def _plan(top: Mapping[str, Any], version: str) -> Plan:
    numbers = iter(range(1, 1_000_000_000))
    root = _node(top["Plan"], lambda: next(numbers), Role.OUTER)
    jit = top.get("JIT") or {}
    timing = jit.get("Timing") or {}
    return Plan(
        engine=ENGINE,
        engine_version=version,
        root=root,
        measured=root.loops is not None,
        planning_ms=_number(top.get("Planning Time")),
        execution_ms=_number(top.get("Execution Time")),
        engine_settings={k: str(v) for k, v in (top.get("Settings") or {}).items()},
        triggers=tuple(_trigger(each) for each in top.get("Triggers") or ()),
        compile_ms=_number(timing.get("Total")),
        details={k: v for k, v in top.items() if k not in ("Plan", "Settings", "Triggers")},
    )


def _node(raw: Mapping[str, Any], number: Callable[[], int], role: Role) -> Node:
    no = number()
    label = _label(raw)
    children = tuple(_node(child, number, _role(child)) for child in raw.get("Plans") or ())
    measured = "Actual Loops" in raw
    return Node(
        no=no,
        operation=_operation(raw),
        label=label,
        role=role,
        schema=raw.get("Schema", ""),
        relation=raw.get("Relation Name", ""),
        alias=raw.get("Alias", ""),
        index=raw.get("Index Name", ""),
        subplan_name=raw.get("Subplan Name", ""),
        join_type=raw.get("Join Type", ""),
        cost=Cost(raw["Startup Cost"], raw["Total Cost"]) if "Total Cost" in raw else None,
        rows_expected=_number(raw.get("Plan Rows")),
        row_width_bytes=raw.get("Plan Width"),
        rows_seen=_number(raw.get("Actual Rows")) if measured else None,
        loops=_number(raw.get("Actual Loops")) if measured else None,
        elapsed=_elapsed(raw),
        discarded=Discarded(
            _number(raw.get("Rows Removed by Filter")),
            _number(raw.get("Rows Removed by Join Filter")),
            _number(raw.get("Rows Removed by Index Recheck")),
        ),
        pages=_pages(raw),
        conditions=_conditions(raw),
        sort_keys=tuple(raw.get("Sort Key") or ()),
        presorted_keys=tuple(raw.get("Presorted Key") or ()),
        group_keys=_group_keys(raw),
        output=tuple(raw.get("Output") or ()),
        processes=_processes(raw),
        memory=_memory(raw),
        parallel_aware=bool(raw.get("Parallel Aware")),
        details={k: v for k, v in raw.items() if k not in _TAKEN},
        children=children,
    )


def _operation(raw: Mapping[str, Any]) -> Operation:
    return OPERATIONS.get(raw.get("Node Type", ""), Operation.OTHER)


def _label(raw: Mapping[str, Any]) -> str:
    label = str(raw.get("Node Type", "?"))
    if label == "Aggregate":
        label = _AGGREGATES.get(raw.get("Strategy", ""), label)
        partial = raw.get("Partial Mode", "Simple")
        label = label if partial == "Simple" else f"{partial} {label}"
    if label == "ModifyTable":
        label = str(raw.get("Operation", label))
    join = raw.get("Join Type", "Inner")
    if join != "Inner" and label.endswith(("Join", "Loop")):
        label = f"{label.removesuffix(' Join')} {join} Join"
    if raw.get("Scan Direction") == "Backward":
        label += " backward"
    return f"Parallel {label}" if raw.get("Parallel Aware") else label


def _role(raw: Mapping[str, Any]) -> Role:
    if raw.get("Subplan Name", "").startswith("CTE "):
        return Role.CTE
    return _ROLES.get(raw.get("Parent Relationship", ""), Role.OUTER)


def _number(value: Any) -> float | None:
    return None if value is None else float(value)


def _elapsed(raw: Mapping[str, Any]) -> Elapsed | None:
    if "Actual Total Time" not in raw:
        return None
    return Elapsed(float(raw["Actual Startup Time"]), float(raw["Actual Total Time"]))


def _pages(raw: Mapping[str, Any]) -> Pages | None:
    if "Shared Hit Blocks" not in raw:
        return None

    def both(what: str) -> int:
        return int(raw.get(f"Shared {what} Blocks", 0)) + int(raw.get(f"Local {what} Blocks", 0))

    return Pages(
        cached=both("Hit"),
        read=both("Read"),
        dirtied=both("Dirtied"),
        written=both("Written"),
        temp_read=int(raw.get("Temp Read Blocks", 0)),
        temp_written=int(raw.get("Temp Written Blocks", 0)),
    )


def _group_keys(raw: Mapping[str, Any]) -> tuple[str, ...]:
    """What rows are grouped by; each grouping set in brackets."""
    sets = raw.get("Grouping Sets")
    if not sets:
        return tuple(raw.get("Group Key") or ())
    found = []
    for each in sets:
        for keys in (*each.get("Hash Keys", ()), *each.get("Group Keys", ())):
            found.append(f"({', '.join(keys)})")
    return tuple(found)


def _conditions(raw: Mapping[str, Any]) -> Conditions:
    def those(*names: str) -> tuple[str, ...]:
        return tuple(str(raw[name]) for name in names if name in raw)

    return Conditions(
        search=those("Index Cond", "TID Cond", "Order By"),
        filter=those("Filter", "One-Time Filter"),
        join=those("Hash Cond", "Merge Cond", "Join Filter"),
        recheck=those("Recheck Cond"),
    )


def _processes(raw: Mapping[str, Any]) -> Processes | None:
    if "Workers Planned" not in raw and "Workers" not in raw:
        return None
    return Processes(
        planned=int(raw.get("Workers Planned", 0)),
        launched=raw.get("Workers Launched"),
        each=tuple(dict(worker) for worker in raw.get("Workers") or ()),
    )


def _memory(raw: Mapping[str, Any]) -> Memory | None:
    if "Sort Space Used" in raw:
        used = int(raw["Sort Space Used"]) * _KIB
        on_disk = raw.get("Sort Space Type") == "Disk"
        spilled = used if on_disk else 0
        for worker in raw.get("Workers") or ():
            if worker.get("Sort Space Type") == "Disk":
                spilled += int(worker["Sort Space Used"]) * _KIB
        return Memory(str(raw.get("Sort Method", "")), None if on_disk else used, spilled)
    if "Peak Memory Usage" in raw or "Hash Batches" in raw or "HashAgg Batches" in raw:
        batches = raw.get("Hash Batches", raw.get("HashAgg Batches"))
        return Memory(
            "hash" if "Hash Buckets" in raw or batches is not None else "cache",
            int(raw.get("Peak Memory Usage", 0)) * _KIB,
            int(raw.get("Disk Usage", 0)) * _KIB,
            batches,
            raw.get("Original Hash Batches", raw.get("Planned Partitions")),
        )
    return None


def _trigger(raw: Mapping[str, Any]) -> Trigger:
    name = str(raw.get("Constraint Name") or raw.get("Trigger Name") or "?")
    return Trigger(name, float(raw.get("Calls", 0)), _number(raw.get("Time")))
