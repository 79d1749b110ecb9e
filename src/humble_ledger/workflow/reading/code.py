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
    kinds = [source] if source else list(dict.fromkeys(c.source for c in reversed(captures)))
    found = ((kind, ledger.senders.of(source=kind)) for kind in kinds)
    kind, senders = next((each for each in found if each[1]), ("", []))
    places = by_code(senders)
    shown = places if top is None else places[:top]
    named = {query for place in shown for query in place.queries}
    total = sum(place.total_ms for place in places)
    return CodeRanking(
        tuple(shown),
        kind,
        {query: ledger.queries.text(query) for query in named},
        len(places),
        sum(place.calls for place in places),
        total,
        max(ledger.queries.whole_ms(kind) - total, 0.0) if kind else 0.0,
    )
