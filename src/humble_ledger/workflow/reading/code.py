"""Which lines of an application take the time of the database."""

from __future__ import annotations

from humble_ledger.core.results.queries import CodeRanking
from humble_ledger.core.workload.origins import by_code
from humble_ledger.workflow.workspace import Workspace


def code_ranking(workspace: Workspace, source: str = "", top: int | None = None) -> CodeRanking:
    """Every place that sent something, the most time first; ``top`` keeps the first so many.

    It rests on one kind of source: the last captured one that tells places, unless one is given.
    """
    ledger = workspace.ledger
    captures = [c for c in ledger.captures.all() if c.kept]
    senders = []
    for source in [source] if source else dict.fromkeys(c.source for c in reversed(captures)):  # noqa: B020, PLR1704
        senders = ledger.senders.of(source=source)
        if senders:
            break
    places = by_code(senders)
    shown = places if top is None else places[:top]
    named = {query for place in shown for query in place.queries}
    total = sum(place.total_ms for place in places)
    return CodeRanking(
        tuple(shown),
        source if senders else "",
        {query: ledger.queries.text(query) for query in named},
        len(places),
        sum(place.calls for place in places),
        total,
        max(ledger.queries.whole_ms(source) - total, 0.0) if senders else 0.0,
    )
