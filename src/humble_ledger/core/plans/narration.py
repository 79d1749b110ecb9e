"""A plan told in plain sentences, in the order in which the server does the work."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import JOINS, SCANS, Node, Operation, Plan, Role

Figure = Callable[[float], str]


_SAYINGS = {
    Operation.HASH: "Put the rows of {below} into a hash table in memory{spill}",
    Operation.SORT: "Sort the rows of {below} by {keys}{spill}",
    Operation.INCREMENTAL_SORT: (
        "Sort the rows of {below} by {keys}; they are in order of {presorted} already"
    ),
    Operation.AGGREGATE: "Condense the rows of {below} into one row{for_each}{spill}",
    Operation.GROUP: "Condense the rows of {below} into one row{for_each}",
    Operation.DISTINCT: "Drop repeated rows of {below}",
    Operation.WINDOW: "Compute the window function over the rows of {below}",
    Operation.LIMIT: "Stop {below} when enough rows have come",
    Operation.APPEND: "Pass on the rows of {below}, one after another",
    Operation.MATERIALIZE: "Keep the rows of {below} to read them again",
    Operation.MEMOIZE: "Remember the answers of {below} by what was asked",
    Operation.GATHER: "Collect the rows of {below} from {processes}",
    Operation.LOCK_ROWS: "Lock each row of {below}",
    Operation.MODIFY: "{label} on {what} with the rows of {below}",
    Operation.SET_OPERATION: "{label}: combine the rows of {below}",
    Operation.RESULT: "Make rows from those of {below}",
}


@dataclass(frozen=True, slots=True)
class Sentence:
    """What one step does; ``number`` counts in the order of the work, ``step`` in the plan's.

    ``expected`` and ``seen`` are rows in all, over all loops; ``self_ms`` and ``share`` are the
    step's self time and its part of the whole (of the cost when not measured).
    """

    number: int
    step: int
    words: str
    expected: float | None
    seen: float | None
    self_ms: float | None
    share: float


def narrate(plan: Plan, figure: Figure) -> list[Sentence]:
    """The plan's sentences; ``figure`` writes a count for people."""
    known = accounts(plan)
    order = list(_in_order(plan.root))
    places = {node.no: place for place, node in enumerate(order, 1)}
    teller = _Teller(places, figure, plan.steps_measured)
    return [
        _sentence(place, node, teller.words(node), known[node.no], plan.steps_measured)
        for place, node in enumerate(order, 1)
    ]


def _sentence(place: int, node: Node, words: str, account: StepMetrics, measured: bool) -> Sentence:
    expected = node.rows_expected
    loops = node.loops if measured and node.loops else 1.0
    return Sentence(
        place,
        node.no,
        words,
        None if expected is None else expected * loops,
        None if not measured or node.rows_seen is None else node.rows_seen * (node.loops or 0),
        account.self_ms,
        account.self_share,
    )


def _in_order(node: Node) -> Iterator[Node]:
    """Steps as they finish: what is built first comes first, each before who asks for it."""
    children = list(node.children)
    if node.operation is Operation.HASH_JOIN:
        # The hash table is built before the other input is read.
        children.sort(key=lambda child: child.role is not Role.INNER)
    first = [c for c in children if c.role in (Role.INIT_PLAN, Role.CTE)]
    last = [c for c in children if c.role is Role.SUBPLAN]
    rest = [c for c in children if c not in first and c not in last]
    for child in (*first, *rest, *last):
        yield from _in_order(child)
    yield node


class _Teller:
    def __init__(self, places: dict[int, int], figure: Figure, measured: bool) -> None:
        self._places = places
        self._figure = figure
        self._measured = measured

    def words(self, node: Node) -> str:
        """The sentence of one step."""
        if self._measured and node.never_ran:
            return f"Nothing asked for this step: {node.name} never ran."
        said = self._said(node)
        if node.subplan_name:
            said = f"For {node.subplan_name}: {said[0].lower()}{said[1:]}"
        return said + self._loops(node) + "."

    def _said(self, node: Node) -> str:
        scans = (Operation.BITMAP_INDEX, Operation.CTE)
        if node.operation in SCANS or node.operation in scans:
            return self._scan(node)
        if node.operation in JOINS:
            return self._join(node)
        saying = _SAYINGS.get(node.operation)
        below = self._of(node)
        if saying is None or not node.children:
            return f"{node.name}{f' over the rows of {below}' if node.children else ''}"
        keys = ", ".join(node.sort_keys or node.group_keys)
        return saying.format(
            below=below,
            keys=keys,
            for_each=f" for each {keys}" if keys else "",
            presorted=", ".join(node.presorted_keys),
            spill=self._spill(node),
            processes=self._processes(node),
            label=node.label,
            what=node.relation or "the table",
        )

    def _scan(self, node: Node) -> str:
        what = node.relation or node.alias or "the rows"
        search = " and ".join(node.conditions.search)
        match node.operation:
            case Operation.FULL_SCAN:
                said = f"Read {self._all(node)}rows of {what}"
            case Operation.INDEX_SCAN:
                said = f"Find rows of {what} by {node.index}"
            case Operation.INDEX_ONLY_SCAN:
                said = f"Answer from {node.index} alone, without reading {what}"
            case Operation.BITMAP_INDEX:
                said = f"Collect the places of rows from {node.index or self._of(node)}"
            case Operation.BITMAP_SCAN:
                said = f"Fetch those rows of {what} page by page"
            case Operation.CTE:
                name = node.cte_name or node.alias or what
                said = f"Read the rows computed for {name}"
            case _:
                said = f"{node.label} of {what}"
        if search:
            said += f" where {search}"
        return said + self._kept(node)

    def _all(self, node: Node) -> str:
        """The rows a full scan read, with a space behind."""
        if not self._measured or node.rows_seen is None:
            return "all "
        loops = node.loops or 1.0
        # The server rounds the rows of a loop; over many loops the sum is off by a few.
        about = "about " if loops > 1 else "all "
        return f"{about}{self._figure((node.rows_seen + node.discarded.total) * loops)} "

    def _kept(self, node: Node) -> str:
        """What becomes of the rows: how many come, and what they must fit."""
        filters = " and ".join(node.conditions.filter)
        if not self._measured or node.rows_seen is None:
            return f", and keep those that fit {filters}" if filters else ""
        seen = self._figure(node.rows_seen * (node.loops or 1.0))
        if filters:
            return f", and keep the {seen} that fit {filters}"
        return "" if node.operation is Operation.FULL_SCAN else f": {seen} rows come"

    def _join(self, node: Node) -> str:
        sides = [c for c in node.children if c.role in (Role.OUTER, Role.INNER)]
        if len(sides) != 2:
            return f"{node.label} of {self._of(node)}"
        outer, inner = sorted(sides, key=lambda c: c.role is Role.INNER)
        one, other = (f"({self._places[c.no]})" for c in (outer, inner))
        condition = " and ".join(node.conditions.join)
        tie = f" where {condition}" if condition else ""
        kind = "" if node.join_type in ("", "Inner") else f" ({node.join_type.lower()} join)"
        if node.operation is Operation.NESTED_LOOP:
            times = ""
            if self._measured and inner.loops:
                times = f"{self._figure(inner.loops)} times "
            return f"For each row of {one} run {other} {times}anew{tie}{kind}{self._kept(node)}"
        if node.operation is Operation.HASH_JOIN:
            how = f"Look each row of {one} up in the hash table of {other}"
            return f"{how}{tie}{kind}{self._kept(node)}"
        return f"Walk {one} and {other} side by side{tie}{kind}{self._kept(node)}"

    def _of(self, node: Node) -> str:
        numbers = [f"({self._places[c.no]})" for c in node.children if c.role is not Role.SUBPLAN]
        return " and ".join(numbers) if numbers else "nothing"

    def _loops(self, node: Node) -> str:
        if not self._measured or not node.loops or node.loops <= 1:
            return ""
        if node.processes is not None:
            return ""
        return f" (over {self._figure(node.loops)} loops)"

    def _spill(self, node: Node) -> str:
        memory = node.memory
        if memory is None or not memory.spilled_bytes:
            return ""
        return "; it did not fit into memory and went to temporary files"

    def _processes(self, node: Node) -> str:
        found = node.processes
        if found is None:
            return "parallel workers"
        if found.launched is None:
            return f"{found.planned} parallel workers and this one"
        return f"{found.launched} parallel workers ({found.planned} planned) and this one"
