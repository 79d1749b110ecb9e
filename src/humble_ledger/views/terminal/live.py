"""What sampling showed: longest statements, waits, who blocks whom, long transactions."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import Group, RenderableType

from humble_ledger.core.glossary.waits import meaning_of_wait
from humble_ledger.core.results.captures import LiveCapture
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.sampling import RUNNING, BlockerBranch, Samples
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.captures import capture_view
from humble_ledger.views.terminal.parts import bar, last_column_gives_way, plain_table
from humble_ledger.views.terminal.text import Text

MOST_STATEMENTS = 8
MOST_WAITS = 8
MOST_TRANSACTIONS = 5
WIDTH = 12


def live_view(found: LiveCapture, numbers: Numbers) -> RenderableType:
    """All of it; parts that saw nothing are left out."""
    samples = found.samples
    parts: list[RenderableType] = []
    for part in (
        _longest(found, numbers),
        _waits(samples, numbers),
        _blockers(found.blockers, numbers),
        _transactions(samples, numbers),
    ):
        if part is not None:
            parts += [part, Text("")]
    if not samples.statements:
        parts += [Text("No statement was running at any look."), Text("")]
    return Group(*parts, capture_view(found.entry, numbers))


def _longest(found: LiveCapture, numbers: Numbers) -> RenderableType | None:
    seen = sorted(found.samples.statements.values(), key=lambda s: s.lasted_ms, reverse=True)
    if not seen:
        return None
    table = plain_table(
        ("longest seen", "right"), ("query", "fixed"), ("process", "right"), ("sent by", "fixed"),
        ("statement", "left"),
    )  # fmt: skip
    for each in seen[:MOST_STATEMENTS]:
        table.add_row(
            numbers.ms(each.lasted_ms),
            found.queries.get(each.sql, "–"),
            str(each.pid),
            each.application or each.user,
            Text(shorten(each.sql, 200)),
        )
    return last_column_gives_way(table)


def _waits(samples: Samples, numbers: Numbers) -> RenderableType | None:
    waits = sorted(samples.waits().items(), key=lambda item: item[1], reverse=True)
    if not waits:
        return None
    whole = sum(count for _, count in waits)
    table = plain_table(("waited for", "fixed"), ("share", "right"), ("", "fixed"), ("", "left"))
    for (kind, event), count in waits[:MOST_WAITS]:
        meaning = meaning_of_wait(kind, event)
        words = meaning.words + (f"; usual remedy: {meaning.remedy}" if meaning.remedy else "")
        name = event if kind == RUNNING else f"{kind}: {event}"
        share = count / whole
        table.add_row(name, numbers.percent(share), bar(share, WIDTH), Text(words))
    return table


def _blockers(branches: Sequence[BlockerBranch], numbers: Numbers) -> RenderableType | None:
    if not branches:
        return None
    lines = [Text("who blocks whom", style="bright_black")]
    lines += [line for branch in branches for line in _branch(branch, "", numbers)]
    return Group(*lines)


def _branch(branch: BlockerBranch, indent: str, numbers: Numbers) -> Iterator[Text]:
    if branch.waited_s is None:
        said = f"process {branch.pid} ({branch.state})"
    else:
        said = f"└ process {branch.pid} waited {numbers.ms(branch.waited_s * 1000)}"
        said += f" for {branch.wait_event}"
    line = Text(f"{indent}{said}: {shorten(branch.sql, 200) or 'unknown'}")
    line.no_wrap, line.overflow = True, "ellipsis"
    yield line
    for below in branch.below:
        yield from _branch(below, indent + "  ", numbers)


def _transactions(samples: Samples, numbers: Numbers) -> RenderableType | None:
    found = samples.long_transactions()
    if not found:
        return None
    table = plain_table(
        ("open for", "right"), ("idle in it", "right"), ("process", "right"),
        ("sent by", "fixed"), ("last statement", "left"),
    )  # fmt: skip
    for each in found[:MOST_TRANSACTIONS]:
        table.add_row(
            numbers.ms(each.open_s * 1000),
            numbers.ms(each.idle_s * 1000) if each.idle_s else "–",
            str(each.pid),
            each.application or each.user,
            Text(shorten(each.last_sql, 200)),
        )
    return last_column_gives_way(table)
