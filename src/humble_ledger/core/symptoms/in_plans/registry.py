"""The list of all rules, and running them over a plan."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from humble_ledger.core.symptoms.case import Case, Rule
from humble_ledger.core.symptoms.in_plans.dead_space import empty_tables
from humble_ledger.core.symptoms.in_plans.early_groups import early_aggregations
from humble_ledger.core.symptoms.in_plans.early_windows import early_windows
from humble_ledger.core.symptoms.in_plans.estimates import row_misestimates
from humble_ledger.core.symptoms.in_plans.group_tops import group_tops
from humble_ledger.core.symptoms.in_plans.index_use import (
    discarding_scans,
    walked_indexes,
    wrong_ends,
)
from humble_ledger.core.symptoms.in_plans.join_inputs import (
    sides_without_index,
    sides_without_shapes,
)
from humble_ledger.core.symptoms.in_plans.joins import (
    distinct_fan_outs,
    late_aggregations,
    untied_joins,
)
from humble_ledger.core.symptoms.in_plans.late_filters import (
    joined_choices,
    whole_ctes,
    whole_subqueries,
)
from humble_ledger.core.symptoms.in_plans.lookups import (
    coarse_bitmaps,
    spared_lookups,
    visited_tables,
)
from humble_ledger.core.symptoms.in_plans.ordering import spared_sorts
from humble_ledger.core.symptoms.in_plans.overhead import (
    long_compiling,
    long_planning,
    long_triggers,
)
from humble_ledger.core.symptoms.in_plans.paging import deep_pages
from humble_ledger.core.symptoms.in_plans.parallelism import (
    idle_workers,
    missing_workers,
    uneven_workers,
)
from humble_ledger.core.symptoms.in_plans.partitions import with_wholes
from humble_ledger.core.symptoms.in_plans.references import unindexed_references
from humble_ledger.core.symptoms.in_plans.scans import full_scans
from humble_ledger.core.symptoms.in_plans.spills import hash_spills, rows_on_disk, sort_spills
from humble_ledger.core.symptoms.in_plans.subplans import subqueries_per_row
from humble_ledger.core.symptoms.in_plans.volatile import changing_filters, random_orders
from humble_ledger.core.symptoms.model import Symptom

# First what the statement asks for, then how it is done: what the first explain, the later
# ones do not count again.
RULES: tuple[Rule, ...] = (
    untied_joins,
    subqueries_per_row,
    deep_pages,
    random_orders,
    distinct_fan_outs,
    late_aggregations,
    early_aggregations,
    early_windows,
    whole_ctes,
    whole_subqueries,
    joined_choices,
    unindexed_references,
    full_scans,
    wrong_ends,
    changing_filters,
    discarding_scans,
    walked_indexes,
    empty_tables,
    sides_without_index,
    sides_without_shapes,
    visited_tables,
    coarse_bitmaps,
    spared_lookups,
    row_misestimates,
    group_tops,
    sort_spills,
    spared_sorts,
    hash_spills,
    rows_on_disk,
    missing_workers,
    idle_workers,
    uneven_workers,
    long_compiling,
    long_planning,
    long_triggers,
)


_HOW_IT_RAN = (
    "workers-not-launched",
    "parallel-overhead",
    "uneven-parallel-workers",
    "jit-overhead",
)
WORTH_KEEPING = 0.05  # of the plan's time, when earlier symptoms took most of it


def find_symptoms(case: Case) -> list[Symptom]:
    """Every symptom of a plan, the costliest first, those that say "this is right" last.

    Time counts once: together they never cost more than the plan took.
    """
    case = with_wholes(case)
    found = list(_counted_once(case, _told_once(case)))
    # A scan that another symptom would spare is not right; how it was run is another matter.
    sparing = [s for s in found if not s.harmless and s.name not in _HOW_IT_RAN]
    blamed = {step for s in sparing for step in (s.covers or (s.node,))}
    found = [s for s in found if not (s.harmless and s.node in blamed)]
    return sorted(found, key=lambda s: (s.harmless, -_weight(case, s), s.node))


def _told_once(case: Case) -> Iterable[Symptom]:
    """What all rules find; of the same thing at the same step what the engine's own rule says."""
    known: set[tuple[str, int]] = set()
    for own, rules in ((True, case.rules), (False, RULES)):
        for rule in rules:
            for symptom in rule(case):
                place = (symptom.name, symptom.node)
                if own or place not in known:
                    yield symptom
                if own:
                    known.add(place)


def _weight(case: Case, symptom: Symptom) -> float:
    """A symptom's share of the plan's time; of what goes beside the steps, against it."""
    if symptom.cost_share is not None or not case.plan.execution_ms:
        return symptom.cost_share or 0.0
    return (symptom.cost_ms or 0.0) / case.plan.execution_ms


def _counted_once(case: Case, found: Iterable[Symptom]) -> Iterable[Symptom]:
    """The symptoms, each with what earlier ones left of the time of its steps."""
    left = {number: account.self_share for number, account in case.accounts.items()}
    for symptom in found:
        steps = symptom.covers or (symptom.node,)
        wished = symptom.cost_share or 0.0
        there = sum(left.get(step, 0.0) for step in steps)
        granted = min(wished, there)
        for step in steps:
            if there > 0:
                left[step] -= granted * left[step] / there
        if granted >= wished or symptom.harmless:
            yield symptom
            continue
        if granted < WORTH_KEEPING:
            continue  # what it tells is part of an earlier one
        part = granted / wished
        cost_ms = None if symptom.cost_ms is None else symptom.cost_ms * part
        yield replace(symptom, cost_ms=cost_ms, cost_share=granted)
