"""The list of all rules, and running them over a plan."""

from __future__ import annotations

from humble_ledger.core.symptoms.estimates import row_misestimates
from humble_ledger.core.symptoms.model import Case, Rule, Symptom
from humble_ledger.core.symptoms.scans import full_scans
from humble_ledger.core.symptoms.spills import sort_spills

RULES: tuple[Rule, ...] = (full_scans, row_misestimates, sort_spills)


def find_symptoms(case: Case) -> list[Symptom]:
    """Every symptom of a plan, the costliest first, those that say "this is right" last."""
    found = [symptom for rule in RULES for symptom in rule(case)]
    return sorted(found, key=lambda s: (s.harmless, -(s.cost_share or 0.0), s.node))
