"""PostgreSQL's EXPLAIN (FORMAT JSON) to the neutral plan; no server is needed."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from humble_ledger.core.plans.limits import MOST_STEPS
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
    Visits,
    Worker,
)
from humble_ledger.engines.postgresql.plans.fields import Fields, require_bounded, require_steps
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
# What is kept as the server calls it, and reckoned with.
_NUMBERS = (
    "Lossy Heap Blocks", "Exact Heap Blocks", "Cache Hits", "Cache Misses", "Heap Fetches",
    "Subplans Removed",
)  # fmt: skip
_NUMBERS_OF_WORKERS = (
    "Worker Number", "Actual Rows", "Actual Loops", "Actual Total Time", "Actual Startup Time",
)  # fmt: skip


def read_plan(document: object, version: str) -> Plan:
    """Read the JSON document of one EXPLAIN, as parsed by any JSON reader.

    ``version`` is the server's, "" when it is not known.

    Raises:
        UnreadableInput: this is not such a document, or larger than is read; the message names
            what is missing or does not fit.
    """
    if isinstance(document, list) and len(document) == 1:
        document = document[0]
    if not isinstance(document, Mapping) or not isinstance(document.get("Plan"), Mapping):
        raise UnreadableInput(
            'This is not a PostgreSQL plan: no object with a "Plan" in it.',
            "Save it with  EXPLAIN (ANALYZE, BUFFERS, VERBOSE, FORMAT JSON) …",
        )
    require_bounded(document)
    return _plan(Fields(document, "the plan"), version)


def _plan(top: Fields, version: str) -> Plan:
    numbers = iter(range(1, MOST_STEPS + 2))
    root = _node(top.object("Plan").raw, lambda: next(numbers), Role.OUTER)
    timing = top.object("JIT").object("Timing")
    settings = top.object("Settings")
    apart = ("Plan", "Settings", "Triggers")
    return Plan(
        engine=ENGINE,
        engine_version=version,
        root=root,
        measured=root.loops is not None,
        planning_ms=top.number("Planning Time"),
        execution_ms=top.number("Execution Time"),
        engine_settings={str(name): settings.text(name) for name in settings.raw},
        triggers=tuple(_trigger(each) for each in top.objects("Triggers")),
        compile_ms=timing.number("Total"),
        details={str(k): v for k, v in top.raw.items() if k not in apart},
    )


# What the steps of partitions are called: the name of the whole table, as steps above have it,
# and a number. Nothing tells them from aliases that somebody wrote but that the table is one.
_OF_PARTITION = re.compile(r"(?P<of>.+)_\d+", re.DOTALL)


def _whole_of(alias: str) -> str:
    found = _OF_PARTITION.fullmatch(alias)
    return found["of"] if found is not None else ""


def _node(raw: Mapping[str, Any], number: Callable[[], int], role: Role) -> Node:
    no = number()
    require_steps(no)
    fields = Fields(raw, f"step {no}")
    label = _label(fields)
    children = tuple(_node(child.raw, number, _role(child)) for child in fields.objects("Plans"))
    measured = "Actual Loops" in raw
    total = fields.number("Total Cost")
    return Node(
        no=no,
        operation=_operation(fields),
        label=label,
        role=role,
        schema=fields.text("Schema"),
        relation=fields.text("Relation Name"),
        alias=fields.text("Alias"),
        whole_alias=_whole_of(fields.text("Alias")),
        index=fields.text("Index Name"),
        subplan_name=fields.text("Subplan Name"),
        join_type=fields.text("Join Type"),
        cost=None if total is None else Cost(fields.number("Startup Cost") or 0.0, total),
        rows_expected=fields.number("Plan Rows"),
        row_width_bytes=fields.count("Plan Width"),
        rows_seen=fields.number("Actual Rows") if measured else None,
        loops=fields.number("Actual Loops") if measured else None,
        elapsed=_elapsed(fields),
        discarded=Discarded(
            fields.number("Rows Removed by Filter"),
            fields.number("Rows Removed by Join Filter"),
            fields.number("Rows Removed by Index Recheck"),
        ),
        pages=_pages(fields),
        conditions=_conditions(fields),
        sort_keys=fields.texts("Sort Key"),
        presorted_keys=fields.texts("Presorted Key"),
        group_keys=_group_keys(fields),
        output=fields.texts("Output"),
        processes=_processes(fields),
        memory=_memory(fields),
        parallel_aware=raw.get("Parallel Aware") is True,
        by_hash=_operation(fields) in _GROUPING and "Hash" in label,
        disabled=raw.get("Disabled") is True,
        cte_name=fields.text("CTE Name"),
        visits=_visits(fields),
        details=_details(fields),
        children=children,
    )


_GROUPING = (Operation.AGGREGATE, Operation.GROUP, Operation.SET_OPERATION)


def _details(fields: Fields) -> dict[str, object]:
    for name in _NUMBERS:
        fields.number(name)  # those that are reckoned with must be numbers
    return {str(k): v for k, v in fields.raw.items() if k not in _TAKEN}


def _operation(fields: Fields) -> Operation:
    return OPERATIONS.get(fields.text("Node Type"), Operation.OTHER)


def _label(fields: Fields) -> str:
    label = fields.text("Node Type", "?")
    if label == "Aggregate":
        label = _AGGREGATES.get(fields.text("Strategy"), label)
        partial = fields.text("Partial Mode", "Simple")
        label = label if partial == "Simple" else f"{partial} {label}"
    if label == "ModifyTable":
        label = fields.text("Operation", label)
    join = fields.text("Join Type", "Inner")
    if join != "Inner" and label.endswith(("Join", "Loop")):
        label = f"{label.removesuffix(' Join')} {join} Join"
    if fields.text("Scan Direction") == "Backward":
        label += " backward"
    return f"Parallel {label}" if fields.raw.get("Parallel Aware") is True else label


def _role(fields: Fields) -> Role:
    if fields.text("Subplan Name").startswith("CTE "):
        return Role.CTE
    return _ROLES.get(fields.text("Parent Relationship"), Role.OUTER)


def _elapsed(fields: Fields) -> Elapsed | None:
    total = fields.number("Actual Total Time")
    if total is None:
        return None
    return Elapsed(fields.number("Actual Startup Time") or 0.0, total)


def _pages(fields: Fields) -> Pages | None:
    if "Shared Hit Blocks" not in fields.raw:
        return None

    def both(what: str) -> int:
        shared, local = (fields.count(f"{scope} {what} Blocks") for scope in ("Shared", "Local"))
        return (shared or 0) + (local or 0)

    return Pages(
        cached=both("Hit"),
        read=both("Read"),
        dirtied=both("Dirtied"),
        written=both("Written"),
        temp_read=fields.count("Temp Read Blocks") or 0,
        temp_written=fields.count("Temp Written Blocks") or 0,
    )


def _group_keys(fields: Fields) -> tuple[str, ...]:
    """What rows are grouped by; each grouping set in brackets."""
    sets = list(fields.objects("Grouping Sets"))
    if not sets:
        return fields.texts("Group Key")
    return tuple(
        f"({', '.join(Fields({name: keys}, fields.where).texts(name))})"
        for each in sets
        for name in ("Hash Keys", "Group Keys")
        for keys in each.items(name)
    )


def _conditions(fields: Fields) -> Conditions:
    def those(*names: str) -> tuple[str, ...]:
        return tuple(_condition(fields, name) for name in names if name in fields.raw)

    return Conditions(
        search=those("Index Cond", "TID Cond", "Order By"),
        filter=those("Filter", "One-Time Filter", "Run Condition"),
        join=those("Hash Cond", "Merge Cond", "Join Filter"),
        recheck=those("Recheck Cond"),
    )


def _condition(fields: Fields, name: str) -> str:
    """A condition; a bare truth value is one, too, as some forms write it."""
    value = fields.raw[name]
    return str(value).lower() if isinstance(value, bool) else fields.text(name)


def _processes(fields: Fields) -> Processes | None:
    if "Workers Planned" not in fields.raw and "Workers" not in fields.raw:
        return None
    workers = list(fields.objects("Workers"))
    for worker in workers:
        for name in _NUMBERS_OF_WORKERS:
            worker.number(name)
    return Processes(
        planned=fields.count("Workers Planned") or 0,
        launched=fields.count("Workers Launched"),
        each=tuple(
            Worker(
                worker.number("Actual Rows") or 0.0,
                worker.number("Actual Loops") or 0.0,
                worker.number("Actual Total Time") or 0.0,
            )
            for worker in workers
        ),
    )


def _visits(fields: Fields) -> Visits:
    names = (
        "Heap Fetches", "Exact Heap Blocks", "Lossy Heap Blocks", "Cache Hits", "Cache Misses",
        "Subplans Removed",
    )  # fmt: skip
    return Visits(*(fields.number(name) or 0.0 for name in names))


def _memory(fields: Fields) -> Memory | None:
    raw = fields.raw
    if "Sort Space Used" in raw:
        used = (fields.count("Sort Space Used") or 0) * _KIB
        on_disk = raw.get("Sort Space Type") == "Disk"
        spilled = used if on_disk else 0
        for worker in fields.objects("Workers"):
            if worker.raw.get("Sort Space Type") == "Disk":
                spilled += (worker.count("Sort Space Used") or 0) * _KIB
        return Memory(fields.text("Sort Method"), None if on_disk else used, spilled)
    if "Peak Memory Usage" in raw or "Hash Batches" in raw or "HashAgg Batches" in raw:
        batches = fields.count("Hash Batches" if "Hash Batches" in raw else "HashAgg Batches")
        planned = "Original Hash Batches"
        planned = planned if planned in raw else "Planned Partitions"
        return Memory(
            "hash" if "Hash Buckets" in raw or batches is not None else "cache",
            (fields.count("Peak Memory Usage") or 0) * _KIB,
            (fields.count("Disk Usage") or 0) * _KIB,
            batches,
            fields.count(planned),
        )
    return None


def _trigger(fields: Fields) -> Trigger:
    name = fields.text("Constraint Name") or fields.text("Trigger Name") or "?"
    return Trigger(name, fields.number("Calls") or 0.0, fields.number("Time"))
