"""The ranking of captured queries, always by one kind of source.

A log and the server's statistics tell of the same runs; adding them up would count these
twice. So a ranking rests on one kind: the one that was captured last, unless another is asked
for.
"""

from __future__ import annotations

from dataclasses import replace

from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.workload.origins import main_places
from humble_ledger.core.workload.ranking import MOSTLY, QueryRuns, RankBy, Ranking, rank
from humble_ledger.core.workload.usage import Usage
from humble_ledger.core.workload.windows import RunChoice, names_table
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger.ids import Kind, parse_id
from humble_ledger.ledger.usages import SUMMED_BY
from humble_ledger.workflow.workspace import Workspace

SOURCES = ("log", "server", "script", "live", "application")
EVERYTHING = RunChoice()
FIRST_PAGE = 100  # rows that people are shown unless they ask for more


def ranking(
    workspace: Workspace,
    by: RankBy = RankBy.TOTAL,
    choice: RunChoice = EVERYTHING,
    table: str = "",
    top: int | None = None,
) -> Ranking:
    """Rank the captured queries of one kind of source; ``top`` keeps the first so many.

    By growth, the last capture of the choice is held against the one before it.

    Raises:
        WrongUsage: growth is asked for and there are no two captures to compare.
    """
    found = _ranking(workspace, by, choice, table, top)
    places = main_places(workspace.ledger.senders.of(source=found.source))
    shown = {row.query.id for row in found.rows}
    return replace(found, sent_by={q: words for q, words in places.items() if q in shown})


def _ranking(
    workspace: Workspace, by: RankBy, choice: RunChoice, table: str, top: int | None
) -> Ranking:
    captures = [c for c in workspace.ledger.captures.all() if c.kept]
    chosen = bool(table) or not choice.everything
    source = choice.source or (captures[-1].source if captures else "")
    if choice.captures is not None and not choice.source:
        last = f"k{choice.captures[1]}"
        source = next((c.source for c in captures if c.id == last), source)
    others = tuple(s for s in SOURCES if s != source and any(c.source == s for c in captures))
    choice = replace(choice, source=source)
    able = tuple(RankBy) if choice.everything else SUMMED_BY
    if top is not None and not table and by in able and by is not RankBy.GROWTH:
        queries, page = workspace.ledger.queries.page(by, choice, top, MOSTLY)
        rows = rank(queries, by, whole_ms=page.total_ms)
        return Ranking(tuple(rows), by, source, others, chosen, count=page.count,
                       total_ms=page.total_ms, mostly=page.mostly)  # fmt: skip
    compared: tuple[str, ...] = ()
    before: dict[str, Usage] = {}
    if by is RankBy.GROWTH:
        earlier, later = _two(captures, choice)
        compared = (earlier.id, later.id)
        before = {q.id: q.usage for q in _seen(workspace, _only(choice, earlier), table)}
        choice = _only(choice, later)
    ranked = rank(_seen(workspace, choice, table), by, before)
    return Ranking.of(ranked, top, by, source, others, chosen=chosen, compared=compared)


def captures_between(first: str, last: str) -> tuple[int, int]:
    """The numbers of two captures, in order.

    Raises:
        WrongUsage: one of them is no capture's id.
    """
    numbers = []
    for id_ in (first, last):
        parsed = parse_id(id_)
        if parsed is None or parsed[0] is not Kind.CAPTURE:
            raise WrongUsage(
                f'"{id_}" is not the id of a capture.', "They look like k1; see  humble history"
            )
        numbers.append(parsed[1])
    return min(numbers), max(numbers)


def captured_ms(workspace: Workspace, query: str) -> float:
    """The time of a query's runs, as the kind of source saw them that was captured last."""
    source = next((c.source for c in reversed(workspace.ledger.captures.all()) if c.kept), "")
    return workspace.ledger.queries.total_ms(query, source)


def captured_queries(workspace: Workspace) -> list[str]:
    """The queries that were captured from anywhere, those that took the most time first."""
    return workspace.ledger.queries.by_time()


def _seen(workspace: Workspace, choice: RunChoice, table: str) -> list[QueryRuns]:
    found = [query for query in workspace.ledger.queries.all(choice=choice) if query.seen]
    return [q for q in found if names_table(q.text, table)] if table else found


def _only(choice: RunChoice, capture: CaptureEntry) -> RunChoice:
    parsed = parse_id(capture.id)
    assert parsed is not None
    return replace(choice, captures=(parsed[1], parsed[1]))


def _two(captures: list[CaptureEntry], choice: RunChoice) -> tuple[CaptureEntry, CaptureEntry]:
    """The captures that growth compares: the ends of the choice, or the last two."""
    fitting = [c for c in captures if c.source == choice.source]
    if choice.captures is not None:
        low, high = choice.captures
        fitting = [c for c in fitting if low <= int(c.id[1:]) <= high]
        fitting = fitting[:1] + fitting[-1:] if len(fitting) > 1 else fitting
    if len(fitting) < 2:
        kind = choice.source or "any"
        raise WrongUsage(
            f"Growth compares two captures, and there are {len(fitting)} of kind {kind} here.",
            "Capture once more later, or choose with  --between k1 k4  and  --source",
        )
    return fitting[-2], fitting[-1]
