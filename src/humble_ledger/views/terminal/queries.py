"""The ranking of queries."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from rich.console import Group, RenderableType

from humble_ledger.core.statements.kinds import shorten
from humble_ledger.core.workload.ranking import RankBy, RankedQuery, Ranking
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import last_column_gives_way, plain_table
from humble_ledger.views.terminal.text import Text

# How each kind of source came to its times.
MEASURED = {
    "log": "measured by the server",
    "server": "measured by the server",
    "script": "measured here, one run each",
    "live": "estimated from samples",
    "application": "measured by the application",
    "": "measured by the server",
}


def queries_view(ranking: Ranking, numbers: Numbers) -> RenderableType:
    """The ranking with shares, and how many queries make 80 % of the time."""
    ranked = ranking.rows
    if not ranked and ranking.chosen:
        return Text("No captured run is in that choice. See them all:  humble queries")
    if not ranked:
        return Text("No query has been captured yet. Begin with:  humble capture log FILE")
    columns = _columns(ranking, numbers)
    table = plain_table(
        ("id", "fixed"), *((each.heading, "right") for each in columns), ("query", "left")
    )
    for row in ranked:
        figures = (each.figure(row) for each in columns)
        table.add_row(row.query.id, *figures, _query_words(row, ranking))
    note = Text(_note(ranking, numbers), style="bright_black")
    return Group(last_column_gives_way(table), Text(""), note)


def _query_words(row: RankedQuery, ranking: Ranking) -> Text:
    """The query, and below it the line of code that sends it."""
    words = Text(shorten(row.query.text, 200))
    place = ranking.sent_by.get(row.query.id)
    return words.append(f"\n{place}", "bright_black") if place else words


@dataclass(frozen=True, slots=True)
class _Column:
    heading: str
    figure: Callable[[RankedQuery], str]


def _columns(ranking: Ranking, numbers: Numbers) -> list[_Column]:
    """The columns that this ranking's source and order make worth seeing."""
    rows = ranking.rows

    def known(figure: Callable[[RankedQuery], float | None]) -> bool:
        return any(figure(row) is not None for row in rows)

    def ms(figure: Callable[[RankedQuery], float | None]) -> Callable[[RankedQuery], str]:
        return lambda row: numbers.figure(figure(row)) if row.usage.timed else "unknown"

    def share(figure: Callable[[RankedQuery], float]) -> Callable[[RankedQuery], str]:
        return lambda row: numbers.percent(figure(row) if row.usage.timed else None)

    timed = any(row.usage.timed for row in rows)
    found = [_Column("calls", lambda row: numbers.whole(row.usage.calls))]
    if timed:
        found = [
            _Column("total ms", ms(lambda row: row.usage.total_ms)),
            _Column("share", lambda row: numbers.percent(row.share if row.usage.timed else None)),
            _Column(
                "sum", lambda row: numbers.percent(row.running_share if row.usage.timed else None)
            ),
            *found,
            _Column("mean ms", ms(lambda row: row.usage.mean_ms)),
        ]
        if known(lambda row: row.usage.p95_ms):
            found.append(_Column("p95 ms", ms(lambda row: row.usage.p95_ms)))
        if known(lambda row: row.usage.max_ms):
            found.append(_Column("max ms", ms(lambda row: row.usage.max_ms)))
    if ranking.by is RankBy.GROWTH:
        found += [
            _Column("before ms", lambda row: _figure_before(row, numbers)),
            _Column("growth ms", lambda row: numbers.figure(row.growth_ms)),
        ]
        found = [c for c in found if c.heading not in ("share", "sum", "p95 ms", "max ms")]
    if known(lambda row: row.usage.work.rows):
        found.append(_Column("rows", lambda row: _whole(row.usage.work.rows, numbers)))
    if known(lambda row: row.usage.work.pages_read):
        found.append(_Column("pages read", lambda row: _whole(row.usage.work.pages_read, numbers)))
    if ranking.by is RankBy.COST or not timed:
        found.append(_Column("cost (est.)", lambda row: numbers.figure(row.query.cost)))
    return found


def _figure_before(row: RankedQuery, numbers: Numbers) -> str:
    return numbers.figure(None if row.before is None else row.before.total_ms)


def _whole(figure: float | None, numbers: Numbers) -> str:
    return "unknown" if figure is None else numbers.whole(round(figure))


def _note(ranking: Ranking, numbers: Numbers) -> str:
    ranked = ranking.rows
    total = ranking.total_ms
    said = f"{numbers.count(ranking.count, 'queries')}{' chosen' if ranking.chosen else ''}"
    if ranking.compared:
        earlier, later = ranking.compared
        said += f" of {later}, compared with {earlier}"
    if total:
        said += f", {numbers.ms(total)} in all ({MEASURED[ranking.source]})"
        if ranking.by is RankBy.TOTAL:
            few, share = ranking.mostly
            first = "the first takes" if few == 1 else f"the first {numbers.whole(few)} take"
            said += f"; {first} {numbers.percent(share)}"
    said += "."
    if len(ranked) < ranking.count:
        said += f" Shown are the first {numbers.whole(len(ranked))}; --top N shows more or fewer."
    if ranking.by in (RankBy.ROWS, RankBy.READS) and not any(
        row.usage.work.rows is not None for row in ranked
    ):
        said += f" A {ranking.source} does not tell rows and pages; the server's statistics do."
    if ranking.others:
        also = " or ".join(f"--source {each}" for each in ranking.others)
        said += f" Also captured: {also}."
    return said
