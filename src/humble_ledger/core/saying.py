"""Figures inside the sentences that the core makes."""

from __future__ import annotations

MIB = 1024 * 1024  # bytes


def percent(share: float) -> str:
    """A share in percent, with as many digits as tell it from nothing: "12.5 %", "0.00038 %"."""
    value = 100 * share
    if value >= 0.1 or value == 0:
        return f"{value:.3g} %"
    return f"{value:.2g} %" if value >= 1e-4 else f"{value:.1e} %"
