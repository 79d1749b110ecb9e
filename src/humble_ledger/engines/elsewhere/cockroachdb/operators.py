"""CockroachDB's operators, by the names in its plans."""

from __future__ import annotations

import re
from dataclasses import dataclass

from humble_ledger.core.plans.model import Operation

_NAMED = {
    "scan": Operation.FULL_SCAN,
    "revscan": Operation.FULL_SCAN,
    "index join": Operation.ROW_LOOKUP,
    "lookup join": Operation.NESTED_LOOP,
    "inverted join": Operation.NESTED_LOOP,
    "apply join": Operation.NESTED_LOOP,
    "cross join": Operation.NESTED_LOOP,
    "hash join": Operation.HASH_JOIN,
    "merge join": Operation.MERGE_JOIN,
    "zigzag join": Operation.MERGE_JOIN,
    "virtual table lookup join": Operation.NESTED_LOOP,
    "sort": Operation.SORT,
    "top-k": Operation.SORT,
    "group": Operation.AGGREGATE,
    "distinct": Operation.DISTINCT,
    "window": Operation.WINDOW,
    "limit": Operation.LIMIT,
    "union all": Operation.APPEND,
    "union": Operation.SET_OPERATION,
    "intersect": Operation.SET_OPERATION,
    "intersect all": Operation.SET_OPERATION,
    "except": Operation.SET_OPERATION,
    "except all": Operation.SET_OPERATION,
    "values": Operation.VALUES,
    "virtual table": Operation.FUNCTION_SCAN,
    "project set": Operation.FUNCTION_SCAN,
    "filter": Operation.RESULT,
    "render": Operation.RESULT,
    "emptyrow": Operation.RESULT,
    "norows": Operation.RESULT,
    "max1row": Operation.RESULT,
    "buffer": Operation.MATERIALIZE,
    "spool": Operation.MATERIALIZE,
    "scan buffer": Operation.CTE,
    "insert": Operation.MODIFY,
    "insert fast path": Operation.MODIFY,
    "update": Operation.MODIFY,
    "upsert": Operation.MODIFY,
    "delete": Operation.MODIFY,
    "delete range": Operation.MODIFY,
    "subquery": Operation.SUBQUERY,
    "root": Operation.RESULT,
}
_NAME = re.compile(r"^(?P<bare>[^(]+?)(?: \((?P<about>[^)]*)\))?$")


@dataclass(frozen=True, slots=True)
class Operator:
    """A step's name, "hash join (left outer)", taken apart."""

    operation: Operation
    label: str
    about: str = ""


def operator(name: str) -> Operator:
    """The operator of this name; one that nobody here knows is OTHER."""
    found = _NAME.match(name.strip())
    bare, about = (found["bare"], found["about"] or "") if found else (name, "")
    return Operator(_NAMED.get(bare, Operation.OTHER), name.strip(), about)
