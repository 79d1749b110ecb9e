"""Holding limits against a plan, and against measured times."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from humble_ledger.core.estimates.accuracy import origins
from humble_ledger.core.limits.model import Allowed, Checked, Outcome, TimeLimit
from humble_ledger.core.messages import Message, Told, message
from humble_ledger.core.plans.model import SCANS, Node, Operation, Plan
from humble_ledger.core.trials.ratio import RatioInterval

UNKNOWN = message("unknown")


def judge(allowed: Allowed, plan: Plan, not_run: str = "") -> list[Checked]:
    """Each limit but that of time; ``not_run`` says why the plan is not a measured one."""
    return list(_judge(allowed, plan, not_run or message("not-run")))


def _judge(allowed: Allowed, plan: Plan, not_run: Told) -> Iterator[Checked]:
    if allowed.cost is not None:
        yield _at_most("cost", allowed.cost, plan.cost_total, message("server-tells-no-cost"))
    if allowed.no_full_scan_of:
        yield _full_scans(allowed.no_full_scan_of, plan)
    if allowed.uses_index:
        yield _indexes(allowed.uses_index, plan)
    if allowed.pages is not None:
        touched = plan.root.pages.touched if plan.measured and plan.root.pages else None
        why = _why_not(plan, not_run, message("server-counts-no-pages"))
        yield _at_most("pages", allowed.pages, touched, why)
    if allowed.rows_read_per_row is not None:
        found = rows_read_per_row(plan)
        why = _why_not(plan, not_run, message("server-counts-no-rows"))
        yield _at_most("rows-read-per-row", allowed.rows_read_per_row, found, why)
    if allowed.no_spill:
        yield _spills(plan, not_run)
    if allowed.estimates_within is not None:
        yield _estimates(allowed.estimates_within, plan, not_run)


def _why_not(plan: Plan, not_run: Told, otherwise: Message) -> Told:
    return otherwise if plan.measured else not_run


def _at_most(name: str, most: float, found: float | None, why: Told) -> Checked:
    words = message("at-most", most=most)
    if found is None:
        return Checked(name, Outcome.UNKNOWN, words, UNKNOWN, why)
    outcome = Outcome.HELD if found <= most else Outcome.BROKEN
    told = message("figure-found", found=found, estimated=name == "cost")
    return Checked(name, outcome, words, told, figure=found)


def _full_scans(tables: Sequence[str], plan: Plan) -> Checked:
    words = message("none-of", names=tables)
    wanted = {table.lower() for table in tables}
    found = [
        node
        for node in plan.nodes()
        if node.operation is Operation.FULL_SCAN
        and {node.relation.lower(), f"{node.schema}.{node.relation}".lower()} & wanted
    ]
    if not found:
        return Checked("full-scan", Outcome.HELD, words, message("none-found"))
    return Checked("full-scan", Outcome.BROKEN, words, _steps(found))


def _steps(found: Sequence[Node]) -> Message:
    return message("steps-found", steps=[node.name for node in found], nos=[n.no for n in found])


def _indexes(names: Sequence[str], plan: Plan) -> Checked:
    words = message("uses", names=names)
    used = sorted({node.index for node in plan.nodes() if node.index})
    missing = [name for name in names if name not in used]
    found = message("indexes-used", names=used)
    if not missing:
        return Checked("index", Outcome.HELD, words, found)
    return Checked("index", Outcome.BROKEN, words, found, message("not-used", names=missing))


def rows_read_per_row(plan: Plan) -> float | None:
    """Rows that scans read, those they threw away among them, for each row returned.

    None when the steps were not measured.
    """
    if not plan.steps_measured or plan.root.loops is None:
        return None
    read = 0.0
    for node in plan.nodes():
        if node.operation in SCANS and node.loops is not None:
            read += ((node.rows_seen or 0.0) + node.discarded.total) * node.loops
    returned = (plan.root.rows_seen or 0.0) * plan.root.loops
    return read / max(returned, 1.0)


def spilling(plan: Plan) -> list[Node]:
    """The steps that wrote to disk what did not fit into memory."""
    return [n for n in plan.nodes() if n.memory is not None and n.memory.spilled_bytes]


def _spills(plan: Plan, not_run: Told) -> Checked:
    words = message("no-step-writes-to-disk")
    if not plan.steps_measured:
        why = _why_not(plan, not_run, message("server-tells-no-spills"))
        return Checked("spill", Outcome.UNKNOWN, words, UNKNOWN, why)
    found = spilling(plan)
    if not found:
        return Checked("spill", Outcome.HELD, words, message("none-does"))
    return Checked("spill", Outcome.BROKEN, words, _steps(found))


def _estimates(within: float, plan: Plan, not_run: Told) -> Checked:
    words = message("rows-within", factor=within)
    if not plan.steps_measured:
        why = _why_not(plan, not_run, message("server-counts-no-rows"))
        return Checked("estimates", Outcome.UNKNOWN, words, UNKNOWN, why)
    far = origins(plan, within)
    worst = max(far, key=lambda each: each.factor, default=None)
    if worst is None:
        return Checked("estimates", Outcome.HELD, words, message("all-are"))
    node = worst.node
    told = message("step-is-off", no=node.no, step=node.name, factor=worst.factor)
    why = message("rows-came-otherwise", more=worst.under)
    return Checked("estimates", Outcome.BROKEN, words, told, why, worst.factor)


def judge_time(limit: TimeLimit, ratio: RatioInterval | None, median_ms: float) -> Checked:
    """The time of a statement, by the ratio of its runs to those of what it is held against.

    For ``at_most_ms`` the ratio is to that many milliseconds. Broken is what lies beyond the limit
    with its whole interval; an interval that holds the limit leaves it open.
    """
    most = limit.at_most if limit.at_most is not None else 1.0
    words = time_words(limit)
    took = message("took", median_ms=median_ms)
    if ratio is None:
        return Checked("time", Outcome.UNKNOWN, words, took, message("too-few-runs"), median_ms)
    if limit.at_most_ms is None:
        took = message("took-times", median_ms=median_ms, times=ratio.estimate,
                       low=ratio.low, high=ratio.high)  # fmt: skip
    if ratio.low > most:
        return Checked("time", Outcome.BROKEN, words, took, "", ratio.estimate, ratio)
    if ratio.high <= most:
        return Checked("time", Outcome.HELD, words, took, "", ratio.estimate, ratio)
    why = message("limit-within-noise")
    return Checked("time", Outcome.UNKNOWN, words, took, why, ratio.estimate, ratio)


def time_words(limit: TimeLimit) -> Message:
    """As in "at most 2 times the baseline of 12 ms"."""
    if limit.at_most_ms is not None:
        return message("at-most-ms", most_ms=limit.at_most_ms)
    if limit.beside:
        return message("at-most-times-beside", times=limit.at_most)
    return message("at-most-times-baseline", times=limit.at_most, baseline_ms=limit.baseline_ms)
