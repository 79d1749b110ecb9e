"""Two plans of the same work held against each other, step by step.

Scans pair by the table (and alias) they read, all other steps by the tables below them: a
join of the same tables is the same task, whatever the method. What finds no partner is gone
or new.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import JOINS, SORTS, Node, Plan


class Change(StrEnum):
    """What became of a step."""

    SAME = "same"
    MOVED = "moved"  # the same step, below another one
    REPLACED = "replaced"  # the same task, done in another way
    GONE = "gone"
    NEW = "new"


@dataclass(frozen=True, slots=True)
class StepPair:
    """A step of the first plan with its partner in the second; one may be missing."""

    change: Change
    before: Node | None
    after: Node | None
    before_account: StepMetrics | None
    after_account: StepMetrics | None


@dataclass(frozen=True, slots=True)
class Figures:
    """A figure of both plans; ``ratio`` is after/before, None when one is unknown or nought.

    Of two servers' units there is none: they are not ``comparable``.
    """

    before: float | None
    after: float | None
    comparable: bool = True

    @property
    def ratio(self) -> float | None:
        """After divided by before."""
        unknown = self.before is None or self.after is None
        if unknown or not self.before or self.after is None or not self.comparable:
            return None
        return self.after / self.before


@dataclass(frozen=True, slots=True)
class Comparison:
    """Both plans' steps paired, and their whole figures.

    Pages are counted over all steps; times are execution times in milliseconds.
    """

    pairs: tuple[StepPair, ...]
    cost: Figures
    time_ms: Figures
    rows: Figures
    pages: Figures

    @property
    def same_shape(self) -> bool:
        """Whether every step has its like in the same place."""
        return all(pair.change is Change.SAME for pair in self.pairs)


_Key = tuple[str, frozenset[str]]


def compare(before: Plan, after: Plan) -> Comparison:
    """Pair the steps of two plans."""
    ours, theirs = _Side(before), _Side(after)
    partners = _partners(ours, theirs)
    pairs = [_pair(ours, theirs, node, partners.get(node.no)) for node in before.nodes()]
    taken = {node.no for node in partners.values()}
    pairs += [
        StepPair(Change.NEW, None, node, None, theirs.accounts[node.no])
        for node in after.nodes()
        if node.no not in taken
    ]
    return Comparison(
        tuple(pairs),
        Figures(before.cost_total, after.cost_total, before.engine == after.engine),
        Figures(before.execution_ms, after.execution_ms),
        Figures(before.root.rows_seen, after.root.rows_seen),
        Figures(ours.pages, theirs.pages),
    )


class _Side:
    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.accounts = accounts(plan)
        self.below: dict[int, frozenset[str]] = {}
        self.parents: dict[int, Node] = {}
        self._learn(plan.root)

    @property
    def pages(self) -> float | None:
        """The pages that all steps touched; None when they were not counted."""
        known = [a.self_pages for a in self.accounts.values() if a.self_pages is not None]
        return float(sum(pages.touched for pages in known)) if known else None

    def key(self, node: Node) -> _Key:
        """What a step is there for: its kind of task, and the tables it works on."""
        return _task(node), self.below[node.no]

    def _learn(self, node: Node) -> frozenset[str]:
        tables = {f"{node.relation}/{node.alias}"} if node.relation else set()
        for child in node.children:
            self.parents[child.no] = node
            tables |= self._learn(child)
        self.below[node.no] = frozenset(tables)
        return self.below[node.no]


def _task(node: Node) -> str:
    if node.operation in JOINS:
        return "join"
    if node.operation in SORTS:
        return "sort"
    if node.relation:
        return "scan"
    return node.operation.value


def _partners(ours: _Side, theirs: _Side) -> dict[int, Node]:
    """Of each step of the first plan its partner in the second."""
    waiting: dict[_Key, list[Node]] = {}
    for node in theirs.plan.nodes():
        waiting.setdefault(theirs.key(node), []).append(node)
    found: dict[int, Node] = {}
    for node in ours.plan.nodes():
        candidates = waiting.get(ours.key(node), [])
        if candidates:
            alike = next((c for c in candidates if _alike(node, c)), candidates[0])
            candidates.remove(alike)
            found[node.no] = alike
    return found


def _alike(one: Node, other: Node) -> bool:
    return (one.label, one.index, one.join_type) == (other.label, other.index, other.join_type)


def _pair(ours: _Side, theirs: _Side, node: Node, partner: Node | None) -> StepPair:
    account = ours.accounts[node.no]
    if partner is None:
        return StepPair(Change.GONE, node, None, account, None)
    change = Change.SAME
    if not _alike(node, partner):
        change = Change.REPLACED
    elif not _same_place(ours.parents, theirs.parents, node, partner):
        change = Change.MOVED
    return StepPair(change, node, partner, account, theirs.accounts[partner.no])


def _same_place(
    ours: Mapping[int, Node], theirs: Mapping[int, Node], node: Node, partner: Node
) -> bool:
    one, other = ours.get(node.no), theirs.get(partner.no)
    if one is None or other is None:
        return one is other
    return _task(one) == _task(other) and node.role is partner.role
