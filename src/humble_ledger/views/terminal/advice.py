"""What a server itself suggests in a plan, told as its own words."""

from __future__ import annotations

from humble_ledger.core.plans.model import IndexAdvice
from humble_ledger.views.numbers import Numbers


def advice_words(advice: IndexAdvice, numbers: Numbers) -> str:
    """One suggestion: "index on reading (sensor_id), holding value; it says that …"."""
    table = f"{advice.schema}.{advice.relation}" if advice.schema else advice.relation
    words = f"index on {table} ({', '.join((*advice.equal, *advice.ranges))})"
    if advice.included:
        words += f", holding {', '.join(advice.included)}"
    if advice.gain_share is not None:
        words += f"; it says that {numbers.percent(advice.gain_share)} of the cost would be saved"
    return words
