"""The first line of a step in EXPLAIN's text, "Index Scan using i on s.t a", to its fields."""

from __future__ import annotations

import re
from typing import Any

from humble_ledger.core.statements.tokens import unquoted

_NAME = r'(?:"(?:[^"]|"")*"|[^\s".()]+)'
_RELATION = rf"(?:(?P<schema>{_NAME})\.)?(?P<relation>{_NAME})(?: (?P<alias>{_NAME}))?"
_ON_RELATION = re.compile(rf"^(?P<kind>.*?) on {_RELATION}$")
_USING_INDEX = re.compile(rf"^(?P<kind>.*?) using (?P<index>{_NAME}) on {_RELATION}$")
_ON_INDEX = re.compile(rf"^Bitmap Index Scan on (?P<index>{_NAME})$")
_JOIN = re.compile(
    r"^(?P<kind>Nested Loop|Hash|Merge)"
    r"(?: (?P<type>Left|Right|Full|Semi|Anti|Right Semi|Right Anti))?(?P<join> Join)?$"
)
_AGGREGATE = re.compile(
    r"^(?:(?P<mode>Partial|Finalize) )?(?P<kind>Aggregate|HashAggregate|GroupAggregate"
    r"|MixedAggregate)$"
)
_SET = re.compile(r"^(?P<hash>Hash)?SetOp (?P<command>\w+(?: All)?)$")
_STRATEGIES = {
    "Aggregate": "Plain",
    "HashAggregate": "Hashed",
    "GroupAggregate": "Sorted",
    "MixedAggregate": "Mixed",
}
_CHANGES = ("Insert", "Update", "Delete", "Merge")
_ALIAS_ONLY = ("Subquery Scan", "Values Scan")
_NAMED = {
    "CTE Scan": "CTE Name",
    "WorkTable Scan": "CTE Name",
    "Named Tuplestore Scan": "Tuplestore Name",
    "Function Scan": "Function Name",
    "Table Function Scan": "Table Function Name",
}
_PLAIN = frozenset(
    ("Result", "ProjectSet", "Append", "Merge Append", "Recursive Union", "BitmapAnd", "BitmapOr",
     "Gather", "Gather Merge", "Materialize", "Memoize", "Sort", "Incremental Sort", "Group",
     "WindowAgg", "Unique", "SetOp", "LockRows", "Limit", "Hash")
)  # fmt: skip
_SCANS = frozenset(
    ("Seq Scan", "Sample Scan", "Tid Scan", "Tid Range Scan", "Bitmap Heap Scan", "Foreign Scan",
     "Index Scan", "Index Only Scan", "Custom Scan", *_ALIAS_ONLY, *_NAMED)
)  # fmt: skip


def fields_of_label(label: str) -> dict[str, Any] | None:
    """The fields that a JSON plan would have for this label; None when it cannot be one.

    An unknown label becomes its own "Node Type"; "Known" marks those that are known.
    """
    label = label.strip()
    if not label or not label[0].isalpha():
        return None
    found: dict[str, Any] = {"Parallel Aware": False, "Async Capable": False}
    for word, key in (("Parallel ", "Parallel Aware"), ("Async ", "Async Capable")):
        if label.startswith(word):
            label, found[key] = label[len(word) :], True
    found.update(_fields(label))
    return found


def _fields(label: str) -> dict[str, Any]:
    aggregate, join, set_ = _AGGREGATE.match(label), _JOIN.match(label), _SET.match(label)
    if aggregate is not None:
        return {
            "Node Type": "Aggregate",
            "Strategy": _STRATEGIES[aggregate["kind"]],
            "Partial Mode": aggregate["mode"] or "Simple",
            "Known": True,
        }
    if join is not None and (join["join"] or join["kind"] == "Nested Loop"):
        kind = join["kind"]
        return {
            "Node Type": kind if kind == "Nested Loop" else f"{kind} Join",
            "Join Type": join["type"] or "Inner",
            "Known": True,
        }
    if set_ is not None:
        strategy = "Hashed" if set_["hash"] else "Sorted"
        return {
            "Node Type": "SetOp",
            "Strategy": strategy,
            "Command": set_["command"],
            "Known": True,
        }
    on_index = _ON_INDEX.match(label)
    if on_index is not None:
        index = unquoted(on_index["index"])
        return {"Node Type": "Bitmap Index Scan", "Index Name": index, "Known": True}
    if label in _PLAIN:
        return {"Node Type": label, "Known": True}
    match = _USING_INDEX.match(label) or _ON_RELATION.match(label)
    return _of_relation(match) if match is not None else {"Node Type": label}


def _of_relation(match: re.Match[str]) -> dict[str, Any]:
    kind = match["kind"]
    found: dict[str, Any] = {}
    if "index" in match.groupdict():
        found["Index Name"] = unquoted(match["index"])
        found["Scan Direction"] = "Backward" if kind.endswith(" Backward") else "Forward"
        kind = kind.removesuffix(" Backward")
    custom = re.fullmatch(r"Custom Scan \((.*)\)", kind)
    if custom is not None:
        kind, found["Custom Plan Provider"] = "Custom Scan", custom[1]
    relation = unquoted(match["relation"])
    alias = unquoted(match["alias"]) if match["alias"] else relation
    if kind in _CHANGES:
        found.update({"Node Type": "ModifyTable", "Operation": kind})
    else:
        found["Node Type"] = kind
    found["Alias"] = alias
    if kind in _NAMED:
        found[_NAMED[kind]] = relation
    elif kind not in _ALIAS_ONLY:
        found["Relation Name"] = relation
    if match["schema"] and kind not in _ALIAS_ONLY:
        found["Schema"] = unquoted(match["schema"])
    if kind in _SCANS or kind in _CHANGES:
        found["Known"] = True
    return found
