"""A followed statement: the rows that came from each step, look by look."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.results.following import Followed
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.following import Look, percent_of, rows_to_come
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled, plain_table
from humble_ledger.views.terminal.text import Text

MOST_SHOWN = 6  # looks, spread over all


def followed_view(found: Followed, numbers: Numbers) -> RenderableType:
    """What it is, and how far it came."""
    last = found.looks[-1]
    whole = "ended" if found.ended else "was still running"
    looks = numbers.count(len(found.looks), "times")
    head = labelled(
        ("session", str(found.session) if found.session else ""),
        ("statement", shorten(found.sql, 400)),
        ("looked at", f"{looks}, until it had run {_after(last, numbers)}; it {whole}"),
        ("kept", found.entry.id if found.entry is not None else ""),
    )  # fmt: skip
    parts: list[RenderableType] = [head, Text("")]
    if found.entry is not None:
        parts.append(_steps(found.entry.plan, found.looks, numbers))
        note = (
            "Rows expected are the planner's estimate of the whole run; the others are the "
            "server's count of those that had come by then."
        )
        parts.append(Text(note, style="bright_black"))
    elif any(look.done for look in found.looks):
        parts.append(_counts(found.looks, numbers))
    else:
        parts.append(Text("The server shows no plan of a running statement, and no progress."))
    return Group(*parts)


def _after(look: Look, numbers: Numbers) -> str:
    return numbers.ms(look.elapsed_ms)


def _some(looks: Sequence[Look]) -> list[Look]:
    if len(looks) <= MOST_SHOWN:
        return list(looks)
    places = [round(n * (len(looks) - 1) / (MOST_SHOWN - 1)) for n in range(MOST_SHOWN)]
    return [looks[place] for place in dict.fromkeys(places)]


def _steps(plan: Plan, looks: Sequence[Look], numbers: Numbers) -> RenderableType:
    shown = _some(looks)
    expected = rows_to_come(plan)
    table = plain_table(
        ("no", "right"), ("step", "left"), ("rows expected", "right"),
        *((_after(look, numbers), "right") for look in shown), ("of those expected", "right"),
    )  # fmt: skip
    for node in plan.nodes():
        rows = [look.rows.get(node.no) for look in shown]
        last = rows[-1]
        wanted = expected.get(node.no)
        part = percent_of(last, wanted) if last is not None else None
        told = f"{numbers.whole(part)} %" if part is not None else ""
        if last is not None and wanted and last > wanted:
            told = f"{numbers.fixed(last / wanted, 1)} times"
        table.add_row(
            str(node.no),
            Text(node.name),
            "–" if wanted is None else numbers.rows(wanted),
            *("" if each is None else numbers.rows(each) for each in rows),
            told,
        )
    return table


def _counts(looks: Sequence[Look], numbers: Numbers) -> RenderableType:
    table = plain_table(("after", "right"), ("by the server's own count", "left"))
    for look in _some([each for each in looks if each.done]):
        table.add_row(_after(look, numbers), Text("; ".join(each.words for each in look.done)))
    return table
