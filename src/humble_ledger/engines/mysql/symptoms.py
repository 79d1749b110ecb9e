"""Findings that only this family's plans have; see `core.symptoms.case.Rule`."""

from __future__ import annotations

from humble_ledger.core.symptoms.case import Rule

RULES: tuple[Rule, ...] = ()
