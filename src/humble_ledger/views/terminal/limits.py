"""Limits on a terminal: what is broken and why, with the plans' difference; what was proposed."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.limits.model import CheckedStatement, CheckOfAll, Limited, Outcome
from humble_ledger.core.limits.outline import difference
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

_STYLES = {Outcome.HELD: "green", Outcome.BROKEN: "red", Outcome.UNKNOWN: "yellow"}
MOST_UNLIMITED = 10


def check_view(found: CheckOfAll, numbers: Numbers, everything: bool) -> RenderableType:
    """Each limit that does not hold (or every one), then the plans that changed, then the sum."""
    parts: list[RenderableType] = []
    table = plain_table(
        ("statement", "left"), ("limit", "fixed"), ("allowed", "left"), ("found", "left"),
        ("", "fixed"),
    )  # fmt: skip
    for each in found.statements:
        for check in each.checks:
            if everything or check.outcome is not Outcome.HELD:
                said = "; ".join(
                    in_words(each, numbers) for each in (check.found, check.why) if each
                )
                table.add_row(
                    Text(each.limited.name), check.limit,
                    Text(in_words(check.allowed, numbers)), Text(said),
                    Text(check.outcome.value, style=_STYLES[check.outcome]),
                )  # fmt: skip
        if each.fault:
            table.add_row(
                Text(each.limited.name), "plan", "can be planned", Text(each.fault),
                Text("broken", style="red"),
            )  # fmt: skip
    if table.row_count:
        parts += [table, Text("")]
    for each in found.broken:
        if each.plan_changed:
            parts += [_changed(each), Text("")]
    parts += [Text(_sum(found, numbers))]
    parts += [Text(each) for each in _unlimited(found, numbers)]
    return Group(*parts)


def _changed(each: CheckedStatement) -> RenderableType:
    lines: list[RenderableType] = [
        Text(f"The plan of {each.limited.name} ({each.limited.place}) has changed:")
    ]
    for line in difference(each.limited.outline, each.outline):
        style = {"-": "red", "+": "green"}.get(line[0], "bright_black")
        lines.append(Text(f"  {line}", style=style))
    return Group(*lines)


def _sum(found: CheckOfAll, numbers: Numbers) -> str:
    checks = [check for each in found.statements for check in each.checks]
    broken = sum(c.outcome is Outcome.BROKEN for c in checks)
    unknown = sum(c.outcome is Outcome.UNKNOWN for c in checks)
    faults = sum(bool(each.fault) for each in found.statements)
    limits = numbers.count(len(checks), "limits")
    words = f"{limits} of {numbers.count(len(found.statements), 'statements')} on {found.target}: "
    told = [f"{numbers.whole(broken)} broken" if broken else "none is broken"]
    if faults:
        told.append(f"{numbers.count(faults, 'statements')} cannot be planned")
    if unknown:
        told.append(f"{numbers.whole(unknown)} could not be judged")
    return words + ", ".join(told) + "."


def _unlimited(found: CheckOfAll, numbers: Numbers) -> list[str]:
    few = found.unlimited[:MOST_UNLIMITED]
    lines = [f"Without limits: {each.place}  {each.text}" for each in few]
    more = len(found.unlimited) - len(few)
    return [*lines, f"and {numbers.whole(more)} more."] if more else lines


def set_view(
    file: str,
    limited: Sequence[Limited],
    left_out: Sequence[tuple[str, str]],
    numbers: Numbers,
) -> RenderableType:
    """What was written, statement by statement."""
    table = plain_table(("statement", "left"), ("limits", "left"))
    for each in limited:
        table.add_row(Text(each.name), Text("; ".join(_words(each, numbers)) or "none"))
    parts: list[RenderableType] = [
        labelled(("limits", f"{file}, {numbers.count(len(limited), 'statements')} added"))
    ]
    if limited:
        parts += [Text(""), table]
    parts += [Text(f"{query} is left out: {why}") for query, why in left_out]
    if limited:
        parts += [Text(""), Text("Hold them against a target:  humble limits check",
                                 style="bright_black")]  # fmt: skip
    return Group(*parts)


def _words(each: Limited, numbers: Numbers) -> list[str]:
    allowed = each.allowed
    found = []
    if allowed.cost is not None:
        found.append(f"cost {numbers.figure(allowed.cost)}")
    if allowed.pages is not None:
        found.append(f"{numbers.whole(allowed.pages)} pages")
    if allowed.rows_read_per_row is not None:
        found.append(f"{numbers.figure(allowed.rows_read_per_row)} rows read for each")
    if allowed.no_full_scan_of:
        found.append(f"no full scan of {', '.join(allowed.no_full_scan_of)}")
    if allowed.uses_index:
        found.append(f"uses {', '.join(allowed.uses_index)}")
    if allowed.no_spill:
        found.append("no spill")
    if allowed.time is not None and allowed.time.baseline_ms is not None:
        found.append(f"{allowed.time.at_most:g} × {numbers.ms(allowed.time.baseline_ms)}")
    return found
