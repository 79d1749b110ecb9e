"""The lines of an application that send queries."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Group, RenderableType
from rich.table import Table

from humble_ledger.core.results.queries import CodeRanking
from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.origins import CodePlace, Sender
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import last_column_gives_way, plain_table
from humble_ledger.views.terminal.queries import MEASURED
from humble_ledger.views.terminal.text import Text

MOST_QUERIES = 3
MOST_SENDERS = 5


def code_view(found: CodeRanking, numbers: Numbers) -> RenderableType:
    """Places with the time they take, what they were asked for, and their first query."""
    if not found.places:
        return Text(
            "No captured run tells which code sent it. Record the application's statements:  "
            "docs/guide/record.md"
        )
    table = plain_table(
        ("total ms", "right"), ("share", "right"), ("calls", "right"), ("in one request", "right"),
        ("sent by", "left"), ("queries", "left"),
    )  # fmt: skip
    for place in found.places:
        table.add_row(
            numbers.figure(place.total_ms),
            numbers.percent(place.share),
            numbers.whole(place.calls),
            _most(place.most_in_one, numbers),
            Text(_place_words(place)),
            Text(_queries(place, found)),
        )
    return Group(
        last_column_gives_way(table), Text(""), Text(_note(found, numbers), "bright_black")
    )


def senders_table(senders: Sequence[Sender], numbers: Numbers) -> Table:
    """Who sends one query."""
    table = plain_table(
        ("sent by", "left"), ("calls", "right"), ("total ms", "right"), ("max ms", "right"),
        ("in one request", "right"), ("for", "left"),
    )  # fmt: skip
    for each in senders[:MOST_SENDERS]:
        sent = each.sent
        table.add_row(
            Text(each.origin.words),
            numbers.whole(sent.calls),
            numbers.figure(sent.total_ms),
            numbers.figure(sent.max_ms),
            _most(sent.most_in_one, numbers),
            Text(each.origin.route if each.origin.code else ""),
        )
    left = senders[MOST_SENDERS:]
    if left:
        table.add_row(
            Text(f"{numbers.count(len(left), 'other places')}"),
            numbers.whole(sum(each.sent.calls for each in left)),
            numbers.figure(sum(each.sent.total_ms for each in left)),
            numbers.figure(max(each.sent.max_ms for each in left)),
            _most(max(each.sent.most_in_one for each in left), numbers),
            "",
        )
    return table


def _most(calls: int, numbers: Numbers) -> str:
    """The most often that one request sent one query."""
    if calls < 2:
        return "once" if calls else "unknown"
    return f"up to {numbers.whole(calls)}"


def _place_words(place: CodePlace) -> str:
    said = f"{place.code} ({place.function})" if place.code and place.function else ""
    said = said or place.code or place.function
    routes = [route for route in place.routes if route != said]
    if not routes:
        return said
    more = f" and {len(routes) - 1} more" if len(routes) > 1 else ""
    return f"{said}\n{routes[0]}{more}"


def _queries(place: CodePlace, found: CodeRanking) -> str:
    first = place.queries[0]
    more = len(place.queries) - MOST_QUERIES
    others = " ".join(place.queries[1:MOST_QUERIES]) + (f" and {more} more" if more > 0 else "")
    text = f"{first}  {shorten(found.texts[first], 120)}"
    return f"{text}\n{others}" if others else text


def _note(found: CodeRanking, numbers: Numbers) -> str:
    said = (
        f"{numbers.count(found.count, 'places')}, {numbers.count(found.calls, 'calls')}, "
        f"{numbers.ms(found.total_ms)} in all ({MEASURED[found.source]})."
    )
    if len(found.places) < found.count:
        said += f" Shown are the first {numbers.whole(len(found.places))}; --top N shows more."
    if found.unplaced_ms >= 0.005 * found.total_ms:
        said += f" Runs that do not tell their place took {numbers.ms(found.unplaced_ms)}."
    return said
