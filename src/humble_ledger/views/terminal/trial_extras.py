"""What stands in a trial beside its queries: each index's part, what writers pay, predictions."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.trials.model import IndexPart, Trial
from humble_ledger.core.trials.ratio import RatioInterval
from humble_ledger.core.trials.write_overhead import MeasuredWriteOverhead, WriteCost
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import plain_table
from humble_ledger.views.terminal.text import Text


def beside_view(trial: Trial, numbers: Numbers) -> list[RenderableType]:
    """The parts of several indexes, and the write overhead of each; [] when there is none."""
    found: list[RenderableType] = []
    if trial.parts:
        found += [Text(""), _parts(trial, numbers)]
    for write_overhead in trial.write_overhead:
        found += [Text(""), _write_overhead(write_overhead, numbers)]
    return found


def _parts(trial: Trial, numbers: Numbers) -> RenderableType:
    table = plain_table(
        ("part of", "fixed"), ("in", "fixed"), ("cost without it", "right"),
        ("with all", "right"), ("time with all / without it", "right"), ("so it", "left"),
    )  # fmt: skip
    for part in trial.parts:
        costs = [numbers.figure(c) if c is not None else "–" for c in _costs(part)]
        table.add_row(part.remedy, part.query, *costs, _spread(part.ratio, numbers), _does(part))
    note = "costs estimated, times measured: all indexes against all but that one"
    return Group(table, Text(note, style="bright_black"))


def _costs(part: IndexPart) -> tuple[float | None, float | None]:
    return part.cost_without, part.cost_with_all


def _does(part: IndexPart) -> str:
    if not part.used:
        return "is not used"
    if part.ratio is None and part.verdict.value == "undecided":
        return "is used; its part is unknown"
    words = {
        "faster": "makes it faster",
        "slower": "makes it slower",
        "no-difference": "makes no difference",
    }
    return words.get(part.verdict.value, "may or may not help")


def _spread(ratio: RatioInterval | None, numbers: Numbers) -> str:
    if ratio is None:
        return "–"
    low, high = numbers.figure(ratio.low), numbers.figure(ratio.high)
    return f"{numbers.figure(ratio.estimate)} ({low} to {high})"


def _write_overhead(write_overhead: MeasuredWriteOverhead, numbers: Numbers) -> RenderableType:
    head = f"writes to {write_overhead.table} with {write_overhead.remedy}"
    if write_overhead.unknown:
        return Text(f"{head}: unknown, {write_overhead.unknown}")
    rows, copied = numbers.whole(write_overhead.rows), numbers.whole(write_overhead.copied_rows)
    table = plain_table(
        (head, "fixed"), ("without", "right"), ("with it", "right"), ("with/without", "right")
    )
    for cost in write_overhead.costs:
        table.add_row(
            f"{_operation(cost)} {rows} rows",
            numbers.ms(cost.without_ms),
            numbers.ms(cost.with_ms),
            _spread(cost.ratio, numbers),
        )
    note = f"measured on copies of {copied} rows, rolled back, without triggers and foreign keys"
    return Group(table, Text(note, style="bright_black"))


def _operation(cost: WriteCost) -> str:
    if cost.operation == "update" and cost.columns:
        return f"update {', '.join(cost.columns)} of"
    return cost.operation


def predicted_view(trial: Trial, numbers: Numbers) -> RenderableType:
    """The costs that are expected of a change that could not be made."""
    table = plain_table(
        ("query", "fixed"), ("cost now (estimated)", "right"), ("with it (predicted)", "right")
    )
    for each in trial.predicted:
        predicted = each.cost_predicted
        words = numbers.figure(predicted) if predicted is not None else "unknown"
        table.add_row(each.query, numbers.figure(each.cost_before), words)
    return Group(table, Text("not tried: nothing was made and nothing was measured"))
