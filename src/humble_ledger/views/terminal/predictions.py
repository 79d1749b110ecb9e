"""Predictions against what trials found."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.trials.honesty import Honesty
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import plain_table
from humble_ledger.views.terminal.text import Text


def predictions_view(found: Honesty, numbers: Numbers) -> RenderableType:
    """One line for each, the figures of all below."""
    idle = numbers.whole(len(found.unchanged))
    said = f" {idle} more rightly said that nothing would change." if found.unchanged else ""
    if found.median_ratio is None or found.near_share is None:
        none = "No trial has checked a prediction yet:  humble propose, then  humble trial"
        return Text(f"No prediction of a change was checked yet;{said}" if said else none)
    table = plain_table(
        ("trial", "fixed"), ("remedy", "fixed"), ("query", "fixed"), ("by", "fixed"),
        ("cost before", "right"), ("predicted", "right"), ("found", "right"),
        ("predicted/found", "right"), ("times faster", "right"),
    )  # fmt: skip
    for each in found.checked:
        table.add_row(
            each.trial,
            each.remedy,
            each.query,
            each.way,
            numbers.figure(each.cost_before),
            numbers.figure(each.cost_predicted),
            numbers.figure(each.cost_found),
            numbers.figure(each.ratio),
            numbers.figure(each.faster) if each.faster is not None else "unknown",
        )
    count = numbers.count(len(found.checked), "predictions")
    note = (
        f"{count}: predicted over found {numbers.figure(found.median_ratio)} in the median, "
        f"{numbers.percent(found.near_share)} within a quarter.{said} Costs found are the "
        "estimates with the change really there; times are measured."
    )
    return Group(table, Text(""), Text(note))
