"""Measuring queries on the two arms of an experiment, pair after pair, until it is clear."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from humble_ledger.core.messages import message
from humble_ledger.core.statements.conditions import orders_rows
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.core.statements.ordering import order_asked
from humble_ledger.core.trials.differences import MOST_ROWS, explain_difference, explain_order
from humble_ledger.core.trials.model import QueryTrial
from humble_ledger.core.trials.ratio import rate_at, ratio_interval
from humble_ledger.core.trials.results import ResultComparison, compare_results, fingerprint_rows
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.engines.contract import Arm, Experiment, Outcome, PlanDocument
from humble_ledger.errors import StatementTimedOut
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.trying.judging import Judging
from humble_ledger.workflow.trying.leaving_open import hides_ties, order_of, ordering_keys
from humble_ledger.workflow.trying.one_processor import OneProcessor
from humble_ledger.workflow.trying.pairing import Pairs, measure_pairs
from humble_ledger.workflow.trying.rewritten import RewrittenArm

AGAIN = 3  # runs of the side that ends when the other one does not


class Measuring:
    """Measures query after query on the two arms, until each is clear or Ctrl-C comes."""

    def __init__(
        self, judging: Judging, experiment: Experiment, most_pairs: int, place: OneProcessor
    ) -> None:
        """``experiment`` has the change made on one of its arms; ``place`` its processes."""
        self._judging = judging
        self._experiment = experiment
        self._most_pairs = most_pairs
        self._place = place
        self.documents: dict[str, PlanDocument] = {}
        self.interrupted = False

    def query(self, tried: TriedQuery, progress: Progress) -> QueryTrial | None:
        """One query's trial; None when Ctrl-C came before anything was measured."""
        if self.interrupted:
            return None
        arms, sent = self._arms(tried)
        pairs = Pairs()
        try:
            progress(f"{tried.query}: first runs")
            cold, endless = self._first_runs(tried, arms)
            if endless:
                return self._unended(tried, arms, sent, cold, endless)
            compared = self._compare_results(tried, arms, sent, cold)
            documents = {
                side: arm.explain(tried.statement, measure=True) for side, arm in arms.items()
            }
            self.documents.setdefault(tried.query, documents["after"])
            measure_pairs(
                arms,
                tried.statement,
                pairs,
                self._most_pairs,
                self._judging.smallest_effect,
                lambda words: progress(f"{tried.query}: {words}"),
                self._place.move,
            )
        except KeyboardInterrupt:
            self.interrupted = True
            if len(pairs) == 0:
                return None
        runs = dict(zip(("before", "after"), pairs.whole(), strict=True))
        sides = {
            side: self._judging.side(tried, sent[side], side, document, cold[side], runs[side])
            for side, document in documents.items()
        }
        # At a look, its rate; when stopped early, what the looks so far have left.
        rate = rate_at(len(pairs), self._most_pairs) or rate_at(len(pairs), len(pairs))
        ratio = ratio_interval(*pairs.whole(), rate) if rate else None
        return self._judging.judged(tried, ratio, sides, documents, compared)

    def _arms(self, tried: TriedQuery) -> tuple[dict[str, Arm], dict[str, Statement]]:
        """The arms for a query, and what each really sends."""
        arms: dict[str, Arm] = {"before": self._experiment.before, "after": self._experiment.after}
        sent = {"before": tried.statement, "after": tried.statement}
        rewrite = self._judging.making.rewrite
        if rewrite is not None:
            sent["after"] = self._with_values(tried.statement, rewrite.new, rewrite.values_from)
            arms["after"] = RewrittenArm(arms["after"], sent["after"])
        return arms, sent

    def _with_values(self, given: Statement, text: str, values_from: str) -> Statement:
        """What is sent after in place of before, with its values."""
        if not values_from:
            return replace(given, sql=text)
        rows = iter(self._experiment.before.result_rows(Statement(values_from)))
        row = next(rows, ())
        return Statement(text, tuple(v.decode() if v is not None else v for v in row))

    def _first_runs(
        self, tried: TriedQuery, arms: Mapping[str, Arm]
    ) -> tuple[dict[str, Outcome], list[str]]:
        """One run on each side, and the sides that did not end within the time limit."""
        cold, endless = {}, []
        for side, arm in arms.items():
            try:
                cold[side] = arm.run(tried.statement)
            except StatementTimedOut:
                cold[side] = Outcome(float(self._judging.workspace.limits.statement_ms), 0)
                endless.append(side)
        return cold, endless

    def _unended(
        self,
        tried: TriedQuery,
        arms: Mapping[str, Arm],
        sent: Mapping[str, Statement],
        cold: Mapping[str, Outcome],
        endless: list[str],
    ) -> QueryTrial:
        """A side that never ends is a result, too; the other one is run a few times."""
        sides = {}
        for side, arm in arms.items():
            ends = side not in endless
            document = arm.explain(tried.statement, measure=ends)
            runs = [cold[side].elapsed_ms]
            if ends:
                runs = [arm.run(tried.statement).elapsed_ms for _ in range(AGAIN)]
            sides[side] = self._judging.side(tried, sent[side], side, document, cold[side], runs)
        return self._judging.unended(tried, sides, endless)

    def _compare_results(
        self,
        tried: TriedQuery,
        arms: Mapping[str, Arm],
        sent: Mapping[str, Statement],
        cold: Mapping[str, Outcome],
    ) -> ResultComparison:
        sql, parser = tried.statement.sql, self._judging.workspace.engine.dialect.parser
        prints = {
            side: fingerprint_rows(arm.result_rows(tried.statement)) for side, arm in arms.items()
        }
        compared = compare_results(prints["before"], prints["after"], orders_rows(sql))
        if compared.same and kind_of(sql) is StatementKind.CHANGES:
            return changed_alike(compared, cold["before"].rows, cold["after"].rows)
        moved = prints["before"].sequence != prints["after"].sequence
        if compared.same and moved and sent["after"] != sent["before"] and orders_rows(sql):
            old, new = (arms[side].result_rows(tried.statement) for side in ("before", "after"))
            return explain_order(
                old, new, order_asked(sql, parser), order_asked(sent["after"].sql, parser)
            )
        if compared.same or max(p.rows for p in prints.values()) > MOST_ROWS:
            return compared
        rows = {side: list(arm.result_rows(tried.statement)) for side, arm in arms.items()}
        asked = order_of(self._judging.workspace, sql)
        one_text = sent["after"] == sent["before"]
        return explain_difference(
            rows["before"],
            rows["after"],
            asked,
            show=not self._judging.workspace.configuration.mask,
            one_text=one_text,
            ties=one_text and hides_ties(asked) and self._only_ties(tried, arms),
        )

    def _only_ties(self, tried: TriedQuery, arms: Mapping[str, Arm]) -> bool:
        """Whether what the rows are ordered by, which is not shown, is the same on both sides."""
        workspace = self._judging.workspace
        keys = [ordering_keys(workspace, arm, tried.statement) for arm in arms.values()]
        return all(each is not None and each == keys[0] for each in keys)


def changed_alike(returned: ResultComparison, before: int, after: int) -> ResultComparison:
    """Of statements that write, the rows they changed count as well as those they return."""
    if before != after:
        return ResultComparison(
            False, message("other-number-of-rows-changed", before=before, after=after)
        )
    return ResultComparison(True, message("changed-alike", rows=before, returned=returned.reason))
