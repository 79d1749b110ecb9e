"""Measuring in stages: without the change, with it, and without it again.

Where both sides cannot be had at once, what the machine does in between would be taken for
the change's doing. So the runs with the change are compared with those before it was made and,
apart from that, with those after it was taken back; the interval given covers both.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from humble_ledger.core.statements.conditions import orders_rows
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.core.trials.differences import Row, explain_difference
from humble_ledger.core.trials.model import QueryTrial
from humble_ledger.core.trials.ratio import FEWEST_PAIRS, covering_both
from humble_ledger.core.trials.results import ResultFingerprint, compare_results, fingerprint_rows
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.engines.contract import Outcome, PlanDocument, SequentialExperiment
from humble_ledger.errors import Interrupted, StatementRejected, StatementTimedOut
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.trying.judging import Judging
from humble_ledger.workflow.trying.leaving_open import hides_ties, order_of, ordering_keys
from humble_ledger.workflow.trying.measuring import changed_alike
from humble_ledger.workflow.trying.pairing import repeats_for, timed_run, warm_ms

LONGEST_STAGE_S = 20.0
MOST_KEPT = 10_000  # rows of a result: those of all queries are kept until the last stage is over


@dataclass(slots=True)
class _Seen:
    """What one stage saw of a query; ``ends`` is False when it hit the time limit."""

    cold: Outcome
    rows: ResultFingerprint | None = None
    listed: list[Row] | None = None  # the rows themselves, unless they are many
    keys: list[Row] | None = None
    document: PlanDocument | None = None
    runs: list[float] = field(default_factory=list)
    ends: bool = True


@dataclass(slots=True)
class Staging:
    """Measures all queries in each stage before the next stage begins.

    ``about_to_make`` is called right before the change is made.
    """

    judging: Judging
    stages: SequentialExperiment
    most_pairs: int
    about_to_make: Callable[[], None] = lambda: None
    failed: list[tuple[str, str]] = field(default_factory=list)
    interrupted: bool = False

    def queries(self, tried: Sequence[TriedQuery], progress: Progress) -> list[QueryTrial]:
        """The trial of each query; after Ctrl-C of those that were run on both sides.

        Raises:
            Interrupted: Ctrl-C before anything was run with the change, which is taken back.
            StatementRejected: the server refused the only query, or the change.
        """
        first: dict[_Key, _Seen] = {}
        changed: dict[_Key, _Seen] = {}
        again: dict[_Key, _Seen] = {}
        each_stage = max(FEWEST_PAIRS, self.most_pairs // 2)
        try:
            progress("without the change")
            self._stage(first, tried, lambda _: each_stage, progress)
            tried = [each for each in tried if _key(each) in first]
            if not tried:
                raise StatementRejected("; ".join(why for _, why in self.failed))
            progress("making the change")
            self.about_to_make()
            self.stages.make()
            self._stage(changed, tried, lambda q: 2 * len(first[q].runs), progress)
            progress("taking the change back")
            self.stages.unmake()
            ended = [t for t in tried if first[_key(t)].ends]
            self._stage(again, ended, lambda q: len(first[q].runs), progress, plainly=True)
        except KeyboardInterrupt as error:
            self.interrupted = True
            if not changed:
                raise Interrupted(
                    "The trial was stopped before anything was run with the change, which is "
                    "taken back."
                ) from error
        return [
            self._judged(t, first[_key(t)], changed[_key(t)], again.get(_key(t)))
            for t in tried
            if _key(t) in changed
        ]

    def _stage(
        self,
        found: dict[_Key, _Seen],
        tried: Iterable[TriedQuery],
        runs: Callable[[_Key], int],
        progress: Progress,
        *,
        plainly: bool = False,
    ) -> None:
        """Run every query into ``found``; ``plainly`` without explaining it again."""
        for each in tried:
            try:
                found[_key(each)] = self._run(each, runs(_key(each)), progress, plainly=plainly)
            except StatementRejected as error:
                said = self.judging.workspace.kept_words(str(error))
                self.failed.append((each.query, said))

    def _run(self, tried: TriedQuery, runs: int, progress: Progress, *, plainly: bool) -> _Seen:
        arm, statement = self.stages.arm, tried.statement
        try:
            seen = _Seen(arm.run(statement))
        except StatementTimedOut:
            limit = float(self.judging.workspace.limits.statement_ms)
            document = arm.explain(statement, measure=False)
            return _Seen(Outcome(limit, 0), document=document, runs=[limit], ends=False)
        if not plainly:
            self._results(seen, statement)
            seen.document = arm.explain(statement, measure=True)
        repeats = repeats_for(warm_ms(arm, statement))
        until = time.monotonic() + LONGEST_STAGE_S
        while len(seen.runs) < runs:
            seen.runs.append(timed_run(arm, statement, repeats))
            progress(f"{tried.query}: run {len(seen.runs)} of {runs}")
            if time.monotonic() > until and len(seen.runs) >= FEWEST_PAIRS:
                break
        return seen

    def _results(self, seen: _Seen, statement: Statement) -> None:
        """What a run brings. The other side is not there any more when the two are compared."""
        workspace, arm = self.judging.workspace, self.stages.arm
        first: list[Row] = []
        seen.listed = first

        def kept() -> Iterator[Row]:
            for row in arm.result_rows(statement):
                if len(first) < MOST_KEPT:
                    first.append(row)
                else:
                    seen.listed = None
                yield row

        seen.rows = fingerprint_rows(kept())
        if seen.listed and hides_ties(order_of(workspace, statement.sql)):
            seen.keys = ordering_keys(workspace, arm, statement)

    def _judged(
        self, tried: TriedQuery, first: _Seen, changed: _Seen, again: _Seen | None
    ) -> QueryTrial:
        before = [*first.runs, *(again.runs if again is not None and first.ends else [])]
        seen = {"before": (first, before), "after": (changed, changed.runs)}
        documents = {
            side: each.document for side, (each, _) in seen.items() if each.document is not None
        }
        sides = {
            side: self.judging.side(tried, tried.statement, side, documents[side], each.cold, runs)
            for side, (each, runs) in seen.items()
        }
        endless = [side for side, (each, _) in seen.items() if not each.ends]
        if endless:
            return self.judging.unended(tried, sides, endless)
        assert first.rows is not None and changed.rows is not None
        sql = tried.statement.sql
        compared = compare_results(first.rows, changed.rows, orders_rows(sql))
        if not compared.same and first.listed is not None and changed.listed is not None:
            compared = explain_difference(
                first.listed,
                changed.listed,
                order_of(self.judging.workspace, sql),
                show=not self.judging.workspace.configuration.mask,
                one_text=True,
                ties=first.keys is not None and first.keys == changed.keys,
            )
        if compared.same and kind_of(sql) is StatementKind.CHANGES:
            compared = changed_alike(compared, first.cold.rows, changed.cold.rows)
        ratio = covering_both(first.runs, changed.runs, again.runs if again is not None else [])
        return self.judging.judged(tried, ratio, sides, documents, compared)


_Key = tuple[str, str]


def _key(tried: TriedQuery) -> _Key:
    return tried.query, tried.values
