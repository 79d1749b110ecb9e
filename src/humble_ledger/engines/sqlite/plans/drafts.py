"""Steps of a plan while it is put together, as they stand in its document."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

Draft = dict[str, Any]


def node(operation: str, label: str, *, cost: float, rows: float, **more: Any) -> Draft:
    """A step with what all have; lists of texts and whatever else it has in ``more``."""
    return {
        "operation": operation, "label": label, "role": "outer", "cost": cost, "rows": rows,
        "children": [], "group": [], **more,
    }  # fmt: skip


def startup(draft: Draft) -> float:
    """The cost before the first row: what sorts, groups of all rows and built indexes take."""
    operation, below = draft["operation"], draft["children"]
    if "startup" in draft:
        return float(draft["startup"])
    if operation in ("materialize", "hash") or (operation == "aggregate" and not draft["group"]):
        return float(draft["cost"])
    inputs = [each for each in below if each["role"] in ("outer", "inner", "member")]
    if operation == "hash_join":
        return startup(inputs[0]) + float(inputs[1]["cost"])
    if operation == "set_operation":
        return sum(startup(each) for each in inputs)
    return startup(inputs[0]) if inputs else 0.0


def asking(draft: Draft, mark: str) -> Draft | None:
    """The step whose conditions name a sub-query."""
    texts = [*draft.get("search", ()), *draft.get("filter", ()), *draft.get("join", ())]
    if any(mark in text for text in texts):
        return draft
    for child in draft["children"]:
        found = asking(child, mark)
        if found is not None:
            return found
    return None


def add_cost(draft: Draft, below: Draft, added: float) -> bool:
    """Add to the cost of every step above one, once for each of its turns."""
    for place, child in enumerate(draft["children"]):
        if child is below or add_cost(child, below, added):
            turns = draft["children"][0]["rows"] if place and child["role"] == "inner" else 1.0
            draft["cost"] += added * max(1.0, turns if draft["operation"] == "nested_loop" else 1.0)
            return True
    return False


def once_cost(draft: Draft) -> float:
    """What of a step's cost is spent once, however often it is called."""
    if draft["role"] == "init-plan":
        return float(draft["cost"])
    return sum(once_cost(child) for child in draft["children"])


def add_set_off(change: Draft, programs: Iterable[tuple[str, Draft]]) -> None:
    """Below a change what it sets off for each of its rows, one step for all of one name."""
    steps: dict[str, Draft] = {}
    for name, draft in programs:
        draft["role"] = "member"
        step = steps.setdefault(
            name,
            node("other", "FOR EACH ROW", cost=0.0, rows=0.0, role="subplan", subplan=name),
        )
        step["children"].append(draft)
        step["cost"] += draft["cost"]
    for step in steps.values():
        change["children"].append(step)
        change["cost"] += step["cost"] * max(1.0, change["rows"])
