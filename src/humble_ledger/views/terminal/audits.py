"""An audit in the terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.audits.findings import Audit, Kind
from humble_ledger.core.audits.promises import BROKEN, PromiseToday, Standing
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging, plain_table
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

_WORDS = {
    Standing.HELD: "held",
    Standing.NOT_MADE: "not made",
    Standing.NOT_USED: "not used",
    Standing.DEARER: "dearer",
    Standing.UNKNOWN: "unknown",
}


def audit_view(audit: Audit, numbers: Numbers) -> RenderableType:
    """The promises, then what has changed since, each with the next command."""
    parts: list[RenderableType] = [_promises(audit.promises, numbers), Text("")]
    for finding in audit.findings:
        style = "red" if finding.kind in _BAD and not finding.good else ""
        parts.append(Text.assemble((f"{finding.kind.value:<8} ", style), (finding.subject, "bold")))
        parts.append(Hanging(" " * 9, in_words(finding.words, numbers)))
        for line in finding.details:
            tone = {"-": "red", "+": "green"}.get(line[0], "bright_black")
            parts.append(Text(f"           {line}", style=tone))
        if finding.next:
            parts.append(Text(f"         next: {finding.next}", style="bright_black"))
    if audit.findings:
        parts.append(Text(""))
    parts += [Text(each) for each in _closing(audit, numbers)]
    return Group(*parts)


_BAD = frozenset((Kind.SLOWER, Kind.FLIPPED))


def _closing(audit: Audit, numbers: Numbers) -> list[str]:
    lines = list(audit.not_looked_at)
    if not audit.findings and not lines:
        lines.append(
            "Nothing else has changed: no query is slower or faster beyond what it varies "
            "by, and no plan is another one."
        )
    honesty = audit.honesty
    if honesty is not None and honesty.near_share is not None:
        lines.append(
            f"Of {numbers.count(len(honesty.checked), 'predictions')} that trials have checked, "
            f"{numbers.percent(honesty.near_share)} were within a quarter of what was found."
        )
    return lines


def _promises(found: Sequence[PromiseToday], numbers: Numbers) -> RenderableType:
    """Each promise with its costs and how it stands; the broken ones first."""
    if not found:
        return Text('No trial that helped a query was settled with "keep", so nothing is promised.')
    table = plain_table(
        ("trial", "fixed"), ("query", "fixed"), ("cost then", "right"), ("promised", "right"),
        ("now", "right"), ("stands", "fixed"), ("why", "left"), ("change", "left"),
    )  # fmt: skip
    for each in sorted(found, key=lambda e: e.standing not in BROKEN):
        promise = each.promise
        style = "red" if each.standing in BROKEN else ""
        table.add_row(
            promise.trial,
            promise.query,
            *(
                numbers.figure(cost)
                for cost in (promise.cost_before, promise.cost_promised, each.cost_now)
            ),
            Text(_WORDS[each.standing], style=style),
            Text(in_words(each.words, numbers)),
            Text(f"{', '.join(promise.remedies)}, {promise.summary}"),
        )
    broken = sum(each.standing in BROKEN for each in found)
    told = f"{numbers.count(len(found), 'promises')}, {broken} broken" if broken else "all hold"
    if not broken and any(each.standing is Standing.UNKNOWN for each in found):
        told = "none is broken, as far as can be seen from here"
    return Group(table, Text(""), Text(f"{told} (costs estimated by the server, nothing was run)"))
