"""Time that goes to something else than the steps: planning, compiling, triggers."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import message
from humble_ledger.core.symptoms.case import Case
from humble_ledger.core.symptoms.model import Cause, Symptom

LEAST_PLANNING_MS = 20.0
LEAST_MS = 10.0
WORTH_OF_COMPILING = 0.2
WORTH_OF_TRIGGERS = 0.2


def long_planning(case: Case) -> Iterable[Symptom]:
    """`planning-outweighs-running`: the plan took longer to make than to run."""
    plan = case.plan
    planning, running = plan.planning_ms or 0.0, plan.execution_ms
    if running is None or planning < LEAST_PLANNING_MS or planning <= running:
        return
    tables = {(n.schema, n.relation, n.alias) for n in plan.nodes() if n.relation}
    yield Symptom(
        name="planning-outweighs-running",
        node=plan.root.no,
        step=plan.root.name,
        summary=message("planning-outweighs-running", planning_ms=planning, running_ms=running),
        evidence={"planning_ms": planning, "execution_ms": running, "tables": len(tables)},
        cause=_cause(len(tables)),
        cost_ms=planning,
        cost_share=None,
    )


def _cause(tables: int) -> Cause:
    if tables > 1:
        return Cause(
            "many-ways-to-plan",
            message("many-ways-to-plan", tables=tables),
        )
    return Cause(
        "much-to-weigh",
        message("much-to-weigh"),
    )


def long_compiling(case: Case) -> Iterable[Symptom]:
    """`jit-overhead`: expressions were compiled for work that did not need it."""
    plan = case.plan
    compiling, running = plan.compile_ms or 0.0, plan.execution_ms
    if running is None or compiling < LEAST_MS or compiling < WORTH_OF_COMPILING * running:
        return
    part = min(1.0, compiling / running)
    granted = case.costs.resources
    above = granted.compile_above_cost
    cost = plan.cost_total or 0.0
    yield Symptom(
        name="jit-overhead",
        node=plan.root.no,
        step=plan.root.name,
        summary=message("jit-overhead", compiling_ms=compiling, running_ms=running),
        evidence={"compile_ms": compiling, "execution_ms": running, "cost_estimated": cost},
        cause=Cause(
            "high-estimate-triggers-jit",
            message(
                "high-estimate-triggers-jit",
                cost=cost,
                limit=above,
                setting=granted.compile_above_setting,
            ),
        ),
        cost_ms=compiling,
        cost_share=part,
        covers=tuple(node.no for node in plan.nodes()),
    )


def long_triggers(case: Case) -> Iterable[Symptom]:
    """`triggers-take-time`: triggers and constraints behind a change."""
    running = case.plan.execution_ms
    for trigger in case.plan.triggers:
        took = trigger.time_ms or 0.0
        if not running or took < LEAST_MS or took < WORTH_OF_TRIGGERS * running:
            continue
        yield Symptom(
            name="triggers-take-time",
            node=case.plan.root.no,
            step=case.plan.root.name,
            summary=message(
                "triggers-take-time",
                trigger=trigger.name,
                took_ms=took,
                running_ms=running,
                calls=trigger.calls,
            ),
            evidence={"trigger": trigger.name, "calls": trigger.calls, "trigger_ms": took},
            cause=Cause(
                "work-behind-the-change",
                message("work-behind-the-change", each_ms=took / max(trigger.calls, 1)),
            ),
            cost_ms=took,
            cost_share=None,
        )
