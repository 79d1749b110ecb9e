"""The recorded and handmade documents, and their plans by the formats that recognise them."""

from __future__ import annotations

from pathlib import Path

from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.engines.contract import PlanFormat, SavedPlan
from humble_ledger.engines.registry import plan_formats

FOLDER = Path(__file__).parents[2] / "fixtures" / "elsewhere"
DOCUMENTS = sorted(p for p in FOLDER.glob("*/*") if p.is_file())
NAMES = [f"{p.parent.name}/{p.name}" for p in DOCUMENTS]


def form_of(text: str) -> PlanFormat:
    return next(form for form in plan_formats() if form.looks_like(text))


def plans_in(name: str) -> list[SavedPlan]:
    text = (FOLDER / name).read_text()
    form = form_of(text)
    return list(form.plans_in(form.document(text)))


def plan_in(name: str) -> Plan:
    return plans_in(name)[0].plan


def step(plan: Plan, words: str) -> Node:
    """The one step whose name has these words."""
    (found,) = [node for node in plan.nodes() if words in node.name]
    return found
