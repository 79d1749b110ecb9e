"""The values a query is tried with: the slow ones, and the usual ones beside them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from humble_ledger.core.entries import RunEntry
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.reading.parameters import with_values
from humble_ledger.workflow.workspace import Workspace

SLOWEST = "the values of its slowest run"
_COMMON = "other values it was sent with often"
_MIDDLE = "the values of a run of middling time"
_BY_STATISTICS = "common values by the statistics"
_MOST_RUNS = 2_000
_OFTEN = 2


def sets_of_values(workspace: Workspace, tried: TriedQuery) -> list[TriedQuery]:
    """A captured query with its slowest values first, then with usual ones, if it has others.

    Usual are those it was sent with most often; when none came twice, those of the run in the
    middle; and when only one set was ever seen, what the target's statistics call common.
    """
    runs = workspace.ledger.queries.runs(tried.query, _MOST_RUNS)
    slowest = Statement(runs[0].statement, runs[0].parameters) if runs else tried.statement
    if tried.statement != slowest:
        return [tried]  # somebody chose these values
    usual = _usual(tried.query, runs, slowest) or _by_statistics(workspace, tried)
    first = TriedQuery(tried.query, slowest, SLOWEST)
    return [first, usual] if usual is not None else [first]


def _usual(query: str, runs: Sequence[RunEntry], slowest: Statement) -> TriedQuery | None:
    sent = [Statement(run.statement, run.parameters) for run in runs]
    others = [each for each in sent if each != slowest]
    if not others:
        return None
    (most, times), *_ = Counter(others).most_common(1)
    if times < _OFTEN:
        return TriedQuery(query, others[len(others) // 2], _MIDDLE)
    return TriedQuery(query, most, _COMMON)


def _by_statistics(workspace: Workspace, tried: TriedQuery) -> TriedQuery | None:
    """None without parameters, or where the statistics or the server cannot tell."""
    try:
        text = Statement(workspace.ledger.queries.text(tried.query))
        found, _ = with_values(workspace, text, "common")
        workspace.session.explain(found)
    except HumbleError:
        return None
    return TriedQuery(tried.query, found, _BY_STATISTICS, supposed=True)
