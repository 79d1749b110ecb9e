"""One step of a plan with everything that is known of it."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Group, RenderableType

from humble_ledger.core.estimates.accuracy import row_error
from humble_ledger.core.glossary.book import BOOK
from humble_ledger.core.glossary.terms import Term, TermKind
from humble_ledger.core.plans.arithmetic import accounts
from humble_ledger.core.plans.model import Node, Plan
from humble_ledger.errors import WrongUsage
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import labelled
from humble_ledger.views.terminal.text import Text


def matching_steps(plan: Plan, wanted: str) -> list[Node]:
    """The steps that mention a text: table, index, operation or condition, in any case."""
    asked = wanted.lower()
    return [node for node in plan.nodes() if asked in " ".join(_words(node)).lower()]


def plan_focus(plan: Plan, number: int, numbers: Numbers) -> RenderableType:
    """Everything of the step with this number.

    Raises:
        WrongUsage: the plan has no such step.
    """
    try:
        node = plan.node(number)
    except KeyError:
        last = max(each.no for each in plan.nodes())
        raise WrongUsage(
            f"The plan has no step {number}; its steps are 1 to {last}.", "See them without --focus"
        ) from None
    account = accounts(plan)[number]
    error = row_error(node)
    pages = account.self_pages
    conditions = node.conditions
    pairs = [
        ("step", f"{node.no}, {node.name} ({node.operation.value})"),
        ("part", node.subplan_name),
        ("rows expected", f"{numbers.rows(node.rows_expected)} per loop (estimated)"),
        (
            "rows seen",
            "never ran"
            if node.never_ran
            else f"{numbers.rows(node.rows_seen)} per loop in {numbers.rows(node.loops)} loops, "
            f"{numbers.rows(account.rows)} in all (measured)"
            if plan.steps_measured
            else "",
        ),
        ("estimate", f"off by {numbers.times(error.factor)}" if error and error.far_off else ""),
        (
            "time",
            f"{numbers.ms(account.self_ms)} of its own, {numbers.ms(account.total_ms)} with all "
            f"below it, {numbers.ms(account.process_ms)} summed over processes (measured)"
            if account.self_ms is not None
            else "",
        ),
        ("share", f"{numbers.percent(account.self_share)} of the whole"),
        (
            "cost",
            f"{numbers.figure(account.self_cost)} of its own, "
            f"{numbers.figure(node.cost.total if node.cost else None)} in all (estimated)",
        ),
        (
            "pages",
            f"{numbers.whole(pages.cached)} cached, {numbers.whole(pages.read)} read, "
            f"{numbers.whole(pages.written)} written; temporary {numbers.whole(pages.temp_read)} "
            f"read, {numbers.whole(pages.temp_written)} written"
            if pages
            else "",
        ),
        ("search", "; ".join(conditions.search)),
        ("filter", "; ".join(conditions.filter)),
        ("join", "; ".join(conditions.join)),
        ("recheck", "; ".join(conditions.recheck)),
        ("discarded", _discarded(node, numbers)),
        ("sorts by", ", ".join(node.sort_keys)),
        ("groups by", ", ".join(node.group_keys)),
        ("gives", ", ".join(node.output)),
        *((key, str(value)) for key, value in node.details.items() if value),
        ("inputs", ", ".join(f"{child.no} {child.name}" for child in node.children)),
    ]
    term = _term(node)
    told = [Text(""), Text(f"{term.words} Look out: {term.look_out}")] if term else []
    return Group(labelled(*pairs), *told)


def _discarded(node: Node, numbers: Numbers) -> str:
    parts = (
        (node.discarded.by_filter, "by the filter"),
        (node.discarded.by_join, "by the join"),
        (node.discarded.by_recheck, "by the recheck"),
    )
    said = [f"{numbers.rows(count)} {how} per loop" for count, how in parts if count]
    return ", ".join(said)


def _term(node: Node) -> Term | None:
    return next(
        (t for t in BOOK if t.kind is TermKind.STEP and t.name == node.operation.value), None
    )


def _words(node: Node) -> Iterator[str]:
    yield from (str(node.no), node.name, node.operation.value, node.schema, node.subplan_name)
    yield from node.conditions.all()
    yield from node.sort_keys
    yield from node.group_keys
