"""What each of several indexes does by itself: all of them against all but one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from humble_ledger.core.plans.model import Plan
from humble_ledger.core.trials.model import IndexPart, Verdict
from humble_ledger.core.trials.ratio import LOOKS, rate_at, ratio_interval
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.core.trials.verdicts import judge_time
from humble_ledger.engines.contract import Capability, Experiment, PlanDocument
from humble_ledger.errors import StatementTimedOut
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.trying.judging import Judging
from humble_ledger.workflow.trying.making import TrialIndex
from humble_ledger.workflow.trying.pairing import Pairs, measure_pairs

PAIRS = LOOKS[1][0]
MOST_MEASURED = 12


def index_parts(
    judging: Judging,
    experiment: Experiment,
    tried: Sequence[TriedQuery],
    documents: Mapping[str, PlanDocument],
    progress: Progress,
) -> list[IndexPart]:
    """The part of each index in each query; () for a single one, whose part is the whole.

    ``documents`` are the queries' plans with all indexes. An index no plan uses has no part;
    the others are measured where the server lets us hide an index, as far as there are few.
    """
    indexes = judging.making.indexes
    if len(indexes) < 2:
        return []
    measurable = judging.workspace.session.support(Capability.HIDDEN_INDEX)
    partitions = {build.name: build.parts for build in judging.builds()}
    found: list[IndexPart] = []
    measured: set[str] = set()
    for each in tried:
        document = documents.get(each.query)
        if document is None or each.query in measured:
            continue
        measured.add(each.query)
        plan = document.plan
        for index in indexes:
            on_parts = partitions.get(index.name, ())
            used = any(plan.uses_index(name) for name in (index.name, *on_parts))
            few = sum(part.ratio is not None for part in found) < MOST_MEASURED
            if used and measurable and few and not on_parts:
                found.append(_measured(judging, experiment, each, index, progress))
            else:
                found.append(_unmeasured(index, each.query, plan, used=used))
    return found


def _unmeasured(index: TrialIndex, query: str, plan: Plan, *, used: bool) -> IndexPart:
    cost = plan.cost_total
    verdict = Verdict.UNDECIDED if used else Verdict.NO_DIFFERENCE
    return IndexPart(index.remedy, query, used, None if used else cost, cost, None, verdict)


def _measured(
    judging: Judging,
    experiment: Experiment,
    tried: TriedQuery,
    index: TrialIndex,
    progress: Progress,
) -> IndexPart:
    progress(f"{tried.query}: without {index.design.words}")
    pairs = Pairs()
    with experiment.lacking(index.name) as (lacking, whole):
        arms = {"before": lacking, "after": whole}
        costs = {
            side: arm.explain(tried.statement, measure=False).plan.cost_total
            for side, arm in arms.items()
        }
        try:
            measure_pairs(arms, tried.statement, pairs, PAIRS, judging.smallest_effect, progress)
        except StatementTimedOut:
            # Without it the query never ends: that is as clear as it can be.
            return IndexPart(
                index.remedy, tried.query, True, costs["before"], costs["after"], None,
                Verdict.FASTER,
            )  # fmt: skip
    rate = rate_at(len(pairs), PAIRS)
    ratio = ratio_interval(*pairs.whole(), rate) if rate else None
    verdict = judge_time(ratio, judging.smallest_effect) or Verdict.UNDECIDED
    return IndexPart(
        index.remedy, tried.query, True, costs["before"], costs["after"], ratio, verdict
    )
