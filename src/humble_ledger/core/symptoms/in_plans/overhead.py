"""Time that goes to something else than the steps: planning, compiling, triggers."""

from __future__ import annotations

from collections.abc import Iterable

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
        summary=f"planning took {planning:,.1f} ms, running {running:,.1f} ms",
        evidence={"planning_ms": planning, "execution_ms": running, "tables": len(tables)},
        cause=_cause(len(tables)),
        cost_ms=planning,
        cost_share=None,
    )


def _cause(tables: int) -> Cause:
    if tables > 1:
        return Cause(
            "many-ways-to-plan",
            f"the planner compares the ways to read {tables} tables or partitions each time; "
            "a prepared statement can keep one plan, and fewer partitions or joins leave fewer "
            "ways",
        )
    return Cause(
        "much-to-weigh",
        "the statement reads no more than one table, so that long lists of values, many indexes, "
        "many partitions that are left out, or functions called while planning remain; the first "
        "planning of a session reads the catalogue, too",
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
    limit = f" of {above:,.0f}" if above is not None else ""
    cost = plan.cost_total or 0.0
    yield Symptom(
        name="jit-overhead",
        node=plan.root.no,
        step=plan.root.name,
        summary=f"{compiling:,.1f} ms of {running:,.1f} ms went to JIT compilation",
        evidence={"compile_ms": compiling, "execution_ms": running, "cost_estimated": cost},
        cause=Cause(
            "high-estimate-triggers-jit",
            f"the estimated cost of {cost:,.0f} is above the limit{limit} "
            f"({granted.compile_above_setting}), and the work was done sooner than the compiling "
            "pays for",
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
            summary=(
                f"{trigger.name} took {took:,.1f} ms of {running:,.1f} ms in "
                f"{trigger.calls:,.0f} calls"
            ),
            evidence={"trigger": trigger.name, "calls": trigger.calls, "trigger_ms": took},
            cause=Cause(
                "work-behind-the-change",
                f"{took / max(trigger.calls, 1):,.3f} ms for each row; a foreign key looks into "
                "the other table each time, which reads all of it when its columns have no index",
            ),
            cost_ms=took,
            cost_share=None,
        )
