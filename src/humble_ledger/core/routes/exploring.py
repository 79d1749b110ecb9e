"""The other ways a server could run a statement, found by forbidding it methods.

Planners keep only the cheapest plan. Asked again without a method that plan rests on, they
show the next one; asked again without that one's, the one behind it, and so on.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass
from enum import StrEnum

from humble_ledger.core.plans.model import JOINS, SCANS, Node, Operation, Plan, Role


class Method(StrEnum):
    """Something a planner may be forbidden to do; named as people would say it."""

    FULL_SCAN = "full scans"
    INDEX_SCAN = "index scans"
    INDEX_ONLY_SCAN = "index-only scans"
    BITMAP_SCAN = "bitmap scans"
    NESTED_LOOP = "nested loops"
    HASH_JOIN = "hash joins"
    MERGE_JOIN = "merge joins"
    SORT = "sorts"
    INCREMENTAL_SORT = "incremental sorts"
    HASHED_GROUPS = "groups by hash"
    MATERIALIZE = "keeping rows"
    MEMOIZE = "remembering lookups"
    PARALLEL = "parallel workers"


_BY_OPERATION = {
    Operation.FULL_SCAN: Method.FULL_SCAN,
    Operation.INDEX_SCAN: Method.INDEX_SCAN,
    Operation.INDEX_ONLY_SCAN: Method.INDEX_ONLY_SCAN,
    Operation.BITMAP_SCAN: Method.BITMAP_SCAN,
    Operation.NESTED_LOOP: Method.NESTED_LOOP,
    Operation.HASH_JOIN: Method.HASH_JOIN,
    Operation.MERGE_JOIN: Method.MERGE_JOIN,
    Operation.SORT: Method.SORT,
    Operation.INCREMENTAL_SORT: Method.INCREMENTAL_SORT,
    Operation.MATERIALIZE: Method.MATERIALIZE,
    Operation.MEMOIZE: Method.MEMOIZE,
    Operation.GATHER: Method.PARALLEL,
}
Avoided = frozenset[Method]
Ask = Callable[[Avoided], Plan]
MOST_ASKED = 40
MOST_AVOIDED = 4


@dataclass(frozen=True, slots=True)
class Found:
    """A way to run a statement: its plan, and what was forbidden to bring it to light."""

    plan: Plan
    avoided: Avoided

    @property
    def cost(self) -> float:
        """The server's estimate for the whole, in its own units."""
        return self.plan.cost_total or 0.0


def methods_of(plan: Plan) -> list[Method]:
    """The methods a plan rests on, in the order of its text."""
    found: dict[Method, None] = {}
    for node in plan.nodes():
        method = _BY_OPERATION.get(node.operation)
        if node.operation in (Operation.AGGREGATE, Operation.GROUP, Operation.SET_OPERATION):
            method = Method.HASHED_GROUPS if node.by_hash else None
        if method is not None:
            found[method] = None
    return list(found)


def shape_of(plan: Plan) -> tuple[object, ...]:
    """What makes two plans the same way of running: steps, tables, indexes; no figures."""
    return _shape(plan.root)


def _shape(node: Node) -> tuple[object, ...]:
    return (
        node.label, node.relation, node.alias, node.index, node.join_type, node.role,
        node.sort_keys, *(_shape(child) for child in node.children),
    )  # fmt: skip


def explore(
    first: Plan,
    ask: Ask,
    most_asked: int = MOST_ASKED,
    able: Collection[Method] = frozenset(Method),
) -> list[Found]:
    """All different ways that come to light, the server's own choice first, then by cost.

    ``ask`` gives the plan when some methods are forbidden, of those it is ``able`` to. A server
    that has no other way uses a forbidden method all the same; such plans are left out.
    """
    known = {shape_of(first): Found(first, frozenset())}
    waiting = deque(frozenset((method,)) for method in methods_of(first) if method in able)
    asked: set[Avoided] = set()
    while waiting and len(asked) < most_asked:
        avoided = waiting.popleft()
        if avoided in asked:
            continue
        asked.add(avoided)
        plan = ask(avoided)
        used = methods_of(plan)
        if avoided & set(used):
            continue
        shape = shape_of(plan)
        if shape not in known:
            known[shape] = Found(plan, avoided)
            if len(avoided) < MOST_AVOIDED:
                waiting.extend(avoided | {method} for method in used if method in able)
    others = [each for each in known.values() if each.avoided]
    return [known[shape_of(first)], *sorted(others, key=lambda each: each.cost)]


_SAID = {
    Operation.FULL_SCAN: "full scan of {table}",
    Operation.INDEX_SCAN: "{table} by {index}",
    Operation.INDEX_ONLY_SCAN: "{index} alone for {table}",
    Operation.BITMAP_SCAN: "{table} by bitmap of {index}",
    Operation.NESTED_LOOP: "nested loop",
    Operation.HASH_JOIN: "hash join",
    Operation.MERGE_JOIN: "merge join",
    Operation.SORT: "sort",
    Operation.INCREMENTAL_SORT: "sort within groups that are in order",
    Operation.MEMOIZE: "remembered lookups",
    Operation.MATERIALIZE: "rows kept to read again",
}


def said(plan: Plan) -> str:
    """A way to run a statement in a few words, in the order of the work.

    "full scan of buoy, reading by reading_sensor, nested loop, sort; 2 parallel workers"
    """
    text = ", ".join(_words(plan.root)) or plan.root.label.lower()
    workers = sum(n.processes.planned for n in plan.nodes() if n.processes is not None)
    if not workers:
        return text
    return f"{text}; {workers} parallel worker{'s' if workers > 1 else ''}"


def _words(node: Node) -> Iterator[str]:
    for child in node.children:
        if child.role is not Role.MEMBER or child is node.children[0]:
            yield from _words(child)
    saying = _SAID.get(node.operation)
    if node.operation in (Operation.AGGREGATE, Operation.GROUP) and node.group_keys:
        saying = "groups by hash" if node.by_hash else "groups in order"
    if saying is None:
        return
    if node.operation in SCANS:
        name = node.alias if node.alias and node.alias != node.relation else ""
        table = f"{node.relation} {name}".strip()
        indexes = " and ".join(i.index for i in node.walk() if i.index)
        yield saying.format(table=table, index=indexes)
    else:
        outer = node.join_type and node.operation in JOINS and node.join_type != "Inner"
        yield f"{saying} ({node.join_type.lower()})" if outer else saying
