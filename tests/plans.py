"""Plans for the tests: recorded from real servers, and built by hand."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from humble_ledger.core.plans.model import Plan
from humble_ledger.engines.postgresql.plans.reader import read_plan

FOLDER = Path(__file__).parent / "fixtures" / "plans"
RECORDED = sorted(FOLDER.glob("*/*.json"), key=str)


def recorded(major: int, name: str) -> Plan:
    """A plan recorded by `tests/record_plans.py`."""
    return read_plan(json.loads((FOLDER / str(major) / f"{name}.json").read_text()), str(major))


def step(kind: str, *children: dict[str, Any], **fields: Any) -> dict[str, Any]:
    """One step as EXPLAIN prints it; `cost`, `rows`, `ms`, `seen`, `loops` are short forms."""
    raw: dict[str, Any] = {"Node Type": kind}
    cost = fields.pop("cost", 10.0)
    raw |= {"Startup Cost": fields.pop("startup", 0.0), "Total Cost": cost}
    raw |= {"Plan Rows": fields.pop("rows", 10), "Plan Width": fields.pop("width", 8)}
    if "ms" in fields:
        raw |= {"Actual Startup Time": 0.0, "Actual Total Time": fields.pop("ms")}
        raw |= {"Actual Rows": fields.pop("seen", 10), "Actual Loops": fields.pop("loops", 1)}
    roles = ["Outer", "Inner"] if len(children) == 2 else ["Outer"] * len(children)
    for child, role in zip(children, roles, strict=True):
        child.setdefault("Parent Relationship", role)
    raw |= {name.replace("_", " "): value for name, value in fields.items()}
    if children:
        raw["Plans"] = list(children)
    return raw


def plan_of(root: dict[str, Any], **top: Any) -> Plan:
    """A plan from one step."""
    return read_plan({"Plan": root, **top}, "18")
