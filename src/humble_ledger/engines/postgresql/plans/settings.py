"""Settings that were in force when a plan was made, as the server prints them with it."""

from __future__ import annotations

import re

from humble_ledger.core.plans.model import Plan

_AMOUNT = re.compile(r"([\d.]+)\s*([A-Za-z]*)")
_UNITS = {"": 1024, "B": 1, "kB": 1024, "MB": 1024**2, "GB": 1024**3, "TB": 1024**4}


def memory_setting(plan: Plan, name: str) -> float | None:
    """A setting of memory in bytes; None when the plan does not print it.

    PostgreSQL prints settings that differ from their default; a bare number of work_mem is
    in kB.
    """
    found = _AMOUNT.fullmatch(str(plan.engine_settings.get(name, "")))
    if found is None or found[2] not in _UNITS:
        return None
    return float(found[1]) * _UNITS[found[2]]


def number_setting(plan: Plan, name: str) -> float | None:
    """A plain number among the settings; None when the plan does not print it."""
    try:
        return float(plan.engine_settings[name])
    except (KeyError, ValueError):
        return None
