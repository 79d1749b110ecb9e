"""What statements are tagged with, by the time their runs take."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.results.queries import TagRanking
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.tags import TagValue
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import last_column_gives_way, plain_table
from humble_ledger.views.terminal.queries import MEASURED
from humble_ledger.views.terminal.text import Text

MOST_QUERIES = 4


def tags_view(found: TagRanking, numbers: Numbers) -> RenderableType:
    """The values of a tag with the time they take, and the queries that take most of it."""
    table = plain_table(
        ("total ms", "right"), ("share", "right"), ("calls", "right"), ("mean ms", "right"),
        ("max ms", "right"), (found.name, "left"), ("queries", "left"),
    )  # fmt: skip
    for each in found.values:
        table.add_row(
            numbers.figure(each.total_ms),
            numbers.percent(each.share),
            numbers.whole(each.calls),
            numbers.figure(each.total_ms / each.calls),
            numbers.figure(each.max_ms),
            Text(each.value),
            Text(_queries(each, found)),
        )
    return Group(
        last_column_gives_way(table), Text(""), Text(_note(found, numbers), "bright_black")
    )


def _queries(each: TagValue, found: TagRanking) -> str:
    first, *others = each.queries
    text = f"{first}  {shorten(found.texts[first], 100)}"
    if not others:
        return text
    named = " ".join(others[: MOST_QUERIES - 1])
    more = len(others) - MOST_QUERIES + 1
    return f"{text}\n{named}" + (f" and {more} more" if more > 0 else "")


def _note(found: TagRanking, numbers: Numbers) -> str:
    said = (
        f"{numbers.count(found.count, 'values')}, {numbers.count(found.calls, 'calls')}, "
        f"{numbers.ms(found.total_ms)} in all ({MEASURED[found.source]})."
    )
    if len(found.values) < found.count:
        said += f" Shown are the first {numbers.whole(len(found.values))}; --top N shows more."
    if found.untagged_ms >= 0.005 * found.total_ms:
        said += f" Runs without this tag took {numbers.ms(found.untagged_ms)}."
    others = [name for name in found.names if name != found.name]
    if others:
        said += f" Other tags: {', '.join(others[:8])}."
    return said
