"""SQL Server's physical operators, by their names."""

from __future__ import annotations

from xml.etree.ElementTree import Element

from humble_ledger.core.plans.model import Operation
from humble_ledger.engines.elsewhere.sqlserver.xml import child, flag, tag

_NAMED = {
    "Table Scan": Operation.FULL_SCAN,
    "Clustered Index Scan": Operation.FULL_SCAN,
    "Columnstore Index Scan": Operation.FULL_SCAN,
    "Index Scan": Operation.INDEX_ONLY_SCAN,
    "Clustered Index Seek": Operation.INDEX_SCAN,
    "Index Seek": Operation.INDEX_ONLY_SCAN,
    "Key Lookup": Operation.ROW_LOOKUP,
    "RID Lookup": Operation.ROW_LOOKUP,
    "Nested Loops": Operation.NESTED_LOOP,
    "Hash Match": Operation.HASH_JOIN,
    "Merge Join": Operation.MERGE_JOIN,
    "Adaptive Join": Operation.HASH_JOIN,
    "Sort": Operation.SORT,
    "Top N Sort": Operation.SORT,
    "Distinct Sort": Operation.DISTINCT,
    "Stream Aggregate": Operation.AGGREGATE,
    "Window Aggregate": Operation.WINDOW,
    "Window Spool": Operation.WINDOW,
    "Segment": Operation.OTHER,
    "Sequence Project": Operation.WINDOW,
    "Top": Operation.LIMIT,
    "Concatenation": Operation.APPEND,
    "Table Spool": Operation.MATERIALIZE,
    "Index Spool": Operation.MATERIALIZE,
    "Row Count Spool": Operation.MATERIALIZE,
    "Filter": Operation.RESULT,
    "Compute Scalar": Operation.RESULT,
    "Constant Scan": Operation.VALUES,
    "Table-valued function": Operation.FUNCTION_SCAN,
    "Remote Query": Operation.FUNCTION_SCAN,
    "Remote Scan": Operation.FUNCTION_SCAN,
    "Table Insert": Operation.MODIFY,
    "Clustered Index Insert": Operation.MODIFY,
    "Clustered Index Update": Operation.MODIFY,
    "Clustered Index Delete": Operation.MODIFY,
    "Clustered Index Merge": Operation.MODIFY,
    "Table Update": Operation.MODIFY,
    "Table Delete": Operation.MODIFY,
    "Table Merge": Operation.MODIFY,
    "Index Insert": Operation.MODIFY,
    "Index Update": Operation.MODIFY,
    "Index Delete": Operation.MODIFY,
}
_AGGREGATES = ("Aggregate", "Partial Aggregate", "Flow Distinct")
# What a step does is in an element that bears the name of its kind.
_BESIDE = frozenset(
    """OutputList Warnings MemoryFractions RunTimeInformation RunTimePartitionSummary
    InternalInfo""".split()
)


def operation(relop: Element, kind: Element | None) -> Operation:
    """The neutral word for a step."""
    physical, logical = relop.get("PhysicalOp", ""), relop.get("LogicalOp", "")
    if physical == "Parallelism":
        return Operation.GATHER if logical == "Gather Streams" else Operation.OTHER
    if flag(kind, "Lookup"):
        return Operation.ROW_LOOKUP
    if physical == "Hash Match" and logical in _AGGREGATES:
        return Operation.DISTINCT if logical == "Flow Distinct" else Operation.AGGREGATE
    if physical == "Hash Match" and logical == "Union":
        return Operation.SET_OPERATION
    if logical == "Distinct Sort":
        return Operation.DISTINCT
    if physical in ("Clustered Index Scan", "Table Scan") and child(kind, "SeekPredicates"):
        return Operation.INDEX_SCAN
    return _NAMED.get(physical, Operation.OTHER)


def label(relop: Element) -> str:
    """The operator by its physical name, and by its logical one where that says more."""
    physical, logical = relop.get("PhysicalOp", "Unknown"), relop.get("LogicalOp", "")
    told = ("Parallelism", "Hash Match", "Table Spool", "Index Spool")
    return f"{physical} ({logical})" if physical in told and logical else physical


def join_type(relop: Element) -> str:
    """The kind of a join: "Inner", "Left Outer", "Left Semi"."""
    return relop.get("LogicalOp", "").removesuffix(" Join")


def about(relop: Element) -> Element | None:
    """The element that tells what a step does."""
    return next((each for each in relop if tag(each) not in _BESIDE), None)
