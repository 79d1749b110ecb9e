"""Plans made once for all values of a prepared statement: told by the parameters left in them."""

from __future__ import annotations

import re

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.statements.conditions import Predicate

_PARAMETER = re.compile(r"\$\d+")


def planned_for_any_value(plan: Plan, predicate: Predicate) -> bool:
    """Whether a condition was planned without its value.

    Older servers write what a sub-query of the plan gives the same way; these stand in the names
    of the sub-queries, too.
    """
    own = {text for node in plan.nodes() for text in _PARAMETER.findall(node.subplan_name)}
    return any(text not in own for text in _PARAMETER.findall(predicate.value))
