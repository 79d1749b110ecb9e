"""Gathering a report: the ranking, and each query's chain from its capture to its settlement."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from humble_ledger.core.entries import RemedyEntry, SettlementEntry, TrialEntry
from humble_ledger.core.remedies.model import CLEARLY_DEARER
from humble_ledger.core.results.ledger_report import Chapter, LedgerReport, brought_by
from humble_ledger.core.workload.ranking import RankedQuery
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.shelf import now
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.ranking import ranking
from humble_ledger.workflow.reporting.masking import masked_chapter, masked_report
from humble_ledger.workflow.workspace import Workspace

MOST_RUNS = 3
MOST_REMEDIES = 6


def gather_report(
    workspace: Workspace,
    top: int | None,
    *,
    mask: bool = False,
    progress: Progress = lambda _: None,
) -> LedgerReport:
    """What the ledger tells of its heaviest queries, or of all; no server is asked.

    With ``mask`` nothing in it has a literal of a statement.
    """
    ledger = workspace.ledger
    ranked = ranking(workspace, top=top)
    trials = [each for each in ledger.trials.all() if each.trial is not None]
    settled = ledger.trials.settlements()
    remedies = ledger.remedies.all()
    by_query = _Chains(trials, settled, remedies)
    chapters = []
    for number, row in enumerate(ranked.rows, 1):
        progress(f"gathering {row.query.id}, {number} of {len(ranked.rows)}")
        chapter = by_query.chapter(ledger, row, ranked.source, ranked.sent_by)
        chapters.append(masked_chapter(ledger, chapter) if mask else chapter)
    changed = {q.query for each in trials if each.trial for q in each.trial.queries}
    captured = {query: ledger.queries.total_ms(query, ranked.source) for query in changed}
    report = LedgerReport(
        now(),
        workspace.configuration.folder.absolute().name,
        ranked,
        tuple(chapters),
        brought_by(trials, settled, remedies, captured),
        tuple(ledger.targets.all()),
        tuple(ledger.captures.all()),
        tuple(ledger.symptoms.beside_queries()),
        tuple(each for each in ledger.replays.all() if each.replay is not None),
        mask or workspace.configuration.mask,
    )
    return masked_report(report) if mask else report


class _Chains:
    """Trials, decisions and remedies, found by the queries they are about."""

    def __init__(
        self,
        trials: Sequence[TrialEntry],
        settled: Sequence[SettlementEntry],
        remedies: Sequence[RemedyEntry],
    ) -> None:
        self._trials: dict[str, list[TrialEntry]] = defaultdict(list)
        for entry in trials:
            for query in entry.trial.queries if entry.trial else ():
                self._trials[query.query].append(entry)
        self._settled: dict[str, SettlementEntry] = {}
        for each in settled:
            self._settled.setdefault(each.trial, each)
        self._remedies: dict[str, list[RemedyEntry]] = defaultdict(list)
        for remedy in remedies:
            for query_id in _about(remedy):
                self._remedies[query_id].append(remedy)

    def chapter(
        self, ledger: Ledger, row: RankedQuery, source: str, sent_by: Mapping[str, str]
    ) -> Chapter:
        query = row.query.id
        trials = self._trials.get(query, [])
        return Chapter(
            row,
            sent_by.get(query, ""),
            tuple(ledger.queries.periods(query, source)),
            tuple(ledger.queries.runs(query, MOST_RUNS)),
            ledger.plans.chief(query),
            tuple(ledger.symptoms.of_query(query, helped=False)),
            tuple(self._best(query, trials)),
            tuple(trials),
            tuple(self._settled[each.id] for each in trials if each.id in self._settled),
            ledger.growths.of(query),
        )

    def _best(self, query: str, trials: Iterable[TrialEntry]) -> list[RemedyEntry]:
        """What was tried, and of what was only proposed the best."""
        tried = {id_ for each in trials if each.trial for id_ in each.trial.remedies}
        found = self._remedies.get(query, [])
        first = [each for each in found if each.id in tried]
        rest = [each for each in found if each.id not in tried]
        rest.sort(key=lambda each: -_gain(each, query))
        return first + rest[: max(0, MOST_REMEDIES - len(first))]


def _about(entry: RemedyEntry) -> list[str]:
    """The queries that a remedy is for, and not those it was only found to leave alone."""
    remedy = entry.remedy
    found = [p.query for p in remedy.predictions if p.gain > 1.0 / CLEARLY_DEARER]
    return list(dict.fromkeys([*found, *remedy.queries]))


def _gain(entry: RemedyEntry, query: str) -> float:
    return next((p.gain for p in entry.remedy.predictions if p.query == query), 0.0)
