"""Proposing limits from plans and trials of the ledger, or from plans asked now."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from humble_ledger.core.entries import PlanEntry, SettlementEntry
from humble_ledger.core.limits.model import Limited
from humble_ledger.core.limits.outline import outline
from humble_ledger.core.limits.proposing import proposed
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.core.remedies.model import CLEARLY_DEARER
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.marks import marked_ending
from humble_ledger.core.trials.model import QueryTrial
from humble_ledger.engines.contract import ExplainOptions
from humble_ledger.errors import HumbleError, WrongUsage
from humble_ledger.workflow.limiting.file import LimitsFile, statements_below, written
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class SetLimits:
    """Limits that were written, and what was left alone, with the reason."""

    path: Path
    limited: tuple[Limited, ...]
    left_out: tuple[tuple[str, str], ...]


def set_limits(
    workspace: Workspace,
    queries: Sequence[str],
    path: Path,
    known: LimitsFile | None,
    *,
    fresh: bool = False,
    measure: bool = False,
    time: bool = False,
    folder: Path | None = None,
    progress: Progress = lambda _: None,
) -> SetLimits:
    """Write limits for queries of the ledger, or for all, behind those the file has.

    With ``fresh`` each plan is asked of the target now, and measured if wished; else it is the
    chief plan of the ledger. ``folder`` is looked through for the statements' own files.

    Raises:
        WrongUsage: there is no query to set limits for.
    """
    wanted = list(queries) or captured_queries(workspace)
    if not wanted:
        raise WrongUsage(
            "There is no query to set limits for.", "Capture some first:  humble capture --help"
        )
    files = _files(folder, path) if folder is not None else {}
    found: list[tuple[Limited, Mapping[str, Any]]] = []
    left_out: list[tuple[str, str]] = []
    for query in wanted:
        progress(query)
        statement = workspace.ledger.queries.example(query)
        fingerprint = normalise(statement.sql).fingerprint
        names = known.names_for(fingerprint) if known is not None else []
        if names:
            left_out.append((query, f"it has limits already: {names[0]}"))
            continue
        try:
            plan = _plan(workspace, query, statement, fresh=fresh, measure=measure)
        except HumbleError as error:
            left_out.append((query, error.message))
            continue
        if plan is None:
            left_out.append((query, "the ledger has no plan of it"))
            continue
        if statement.values and not plan.parameters and None in statement.values:
            left_out.append((query, "its values are not known"))
            continue
        took = _took_ms(workspace, query, plan) if time else None
        where = files.get(fingerprint) or _text(statement)
        name = _name(query, where)
        limited = Limited(name, statement, proposed(plan.plan, took), outline=outline(plan.plan))
        found.append((limited, where))
    if found:
        text = written(found, head=known is None)
        if known is not None:
            before = path.read_text(encoding="utf-8")
            text = f"{before.rstrip()}\n\n{text}"
        path.write_text(text, encoding="utf-8")
    return SetLimits(path, tuple(each for each, _ in found), tuple(left_out))


def _plan(
    workspace: Workspace, query: str, statement: Statement, *, fresh: bool, measure: bool
) -> PlanEntry | None:
    if not fresh:
        chief = workspace.ledger.plans.chief(query)
        kept = _kept(workspace, query)
        if kept is None:
            return chief
        # What was decided to be kept counts, also while it is not made yet.
        after = workspace.ledger.plans.get(kept[1].after.plan)
        known = (chief.plan.cost_total, after.plan.cost_total) if chief else (None, None)
        if chief is not None and chief.at > kept[0].at and None not in known:
            made = (known[0] or 0.0) <= CLEARLY_DEARER * (known[1] or 0.0)
            if made:
                return chief
        mark = workspace.ledger.trials.get(kept[0].trial).mark
        return replace(after, plan=_as_settled(after.plan, marked_ending(mark)))
    read = workspace.session.explain(statement, ExplainOptions(measure=measure))
    return PlanEntry("", "", query, statement.sql, statement.values, "read", read.plan)


def _kept(workspace: Workspace, query: str) -> tuple[SettlementEntry, QueryTrial] | None:
    """The newest trial of a query that was settled with "keep", and what it found."""
    for settled in workspace.ledger.trials.settlements():
        trial = workspace.ledger.trials.get(settled.trial).trial
        if settled.decision != "keep" or trial is None:
            continue
        for each in trial.queries:
            if each.query == query and each.after.plan and not each.after.timed_out:
                return settled, each
    return None


def _as_settled(plan: Plan, ending: str) -> Plan:
    """The plan with the names that indexes get when they are made for good, not in a trial."""

    def renamed(node: Node) -> Node:
        children = tuple(renamed(child) for child in node.children)
        return replace(node, index=node.index.removesuffix(ending), children=children)

    return replace(plan, root=renamed(plan.root))


def _took_ms(workspace: Workspace, query: str, plan: PlanEntry) -> float | None:
    """What it took in the newest trial that was kept, else in the measured plan (ms)."""
    kept = _kept(workspace, query)
    return kept[1].after.median_ms if kept is not None else plan.plan.execution_ms


def _name(query: str, where: Mapping[str, Any]) -> str:
    """By the file where it stands, else the query's id."""
    if "file" not in where:
        return query
    return f"{Path(where['file']).stem} {where['statement']}"


def _text(statement: Statement) -> dict[str, Any]:
    found: dict[str, Any] = {"sql": statement.sql}
    if statement.values:
        found["parameters"] = [value or "" for value in statement.values]
    return found


def _files(folder: Path, limits: Path) -> dict[str, dict[str, Any]]:
    """By fingerprint the place of each statement of a folder, as seen from the file of limits."""
    found: dict[str, dict[str, Any]] = {}
    for path, number, each in statements_below(folder):
        if each.variables or "$1" in each.sql:
            continue  # it could not be sent without values
        shown = os.path.relpath(path, limits.parent)
        found.setdefault(normalise(each.sql).fingerprint, {"file": shown, "statement": number})
    return found
