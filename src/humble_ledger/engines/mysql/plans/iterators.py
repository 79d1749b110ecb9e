"""MySQL's trees of iterators: as text, and in the second version of its JSON."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import product
from typing import Any

from humble_ledger.core.plans.model import Discarded, Operation, Role
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    predicates,
)
from humble_ledger.core.statements.parting import alternatives
from humble_ledger.engines.mysql.costs import SORTED_FIRST, sort_cost
from humble_ledger.engines.mysql.plans.context import Context
from humble_ledger.engines.mysql.plans.notation import identifier
from humble_ledger.engines.mysql.plans.operations import Told, told
from humble_ledger.engines.mysql.plans.steps import Step
from humble_ledger.engines.mysql.plans.tables import ALL_PASS, CONSTANT, number, separate
from humble_ledger.errors import UnreadableInput

_NUMBER = r"[\d.]+(?:e[+-]?\d+)?"
_COST = re.compile(rf"\(cost=(?:({_NUMBER})\.\.)?({_NUMBER}) rows=({_NUMBER})\)")
_ACTUAL = re.compile(
    rf"\(actual time=({_NUMBER})\.\.({_NUMBER}) rows=({_NUMBER}) loops=({_NUMBER})\)"
)
_NEVER = "(never executed)"
_SELECT = re.compile(r"Select #(\d+) \((?P<about>[^)]*)\)")
_LINE = re.compile(r"^(?P<indent>\s*)-> (?P<text>.*)$", re.DOTALL)
_NOT_PLACED = frozenset(
    """inputs inputs_from_select_list operation estimated_rows estimated_total_cost
    estimated_first_row_cost actual_rows actual_loops actual_first_row_ms actual_last_row_ms
    table_name schema_name alias index_name used_columns heading access_type condition
    filter_columns lookup_condition lookup_references key_columns covering""".split()
)


def tree_of_text(text: str) -> Mapping[str, Any]:
    """The tree that stands in a text, in the form of the second version of the JSON.

    Raises:
        UnreadableInput: it holds no line of a tree, or one that hangs below nothing.
    """
    root: dict[str, Any] | None = None
    above: list[tuple[int, dict[str, Any]]] = []
    for place, line in enumerate(_whole_lines(text), 1):
        found = _LINE.match(line)
        if found is None:
            continue
        node, depth = _figures(found["text"]), len(found["indent"])
        above = [each for each in above if each[0] < depth]
        if root is None:
            root = node
        elif above or _SELECT.match(found["text"]):
            parent = above[-1][1] if above else root
            parent.setdefault("inputs", []).append(node)
        else:
            raise UnreadableInput(
                f"Line {place} of this tree hangs below no other.", "Is its beginning missing?"
            )
        above.append((depth, node))
    if root is None:
        raise UnreadableInput("There is no line of a plan that begins with '-> '.")
    return root


def _whole_lines(text: str) -> list[str]:
    """The lines of a tree; what stands in a constant may have ends of lines in it."""
    found: list[str] = []
    for line in text.splitlines():
        if line.lstrip().startswith("-> ") or not found:
            found.append(line)
        elif line.strip():
            found[-1] += "\n" + line
    return found


def _figures(text: str) -> dict[str, Any]:
    node: dict[str, Any] = {}
    cost, actual = _COST.search(text), _ACTUAL.search(text)
    end = len(text)
    if cost is not None:
        node["estimated_total_cost"] = float(cost[2])
        if cost[1]:
            node["estimated_first_row_cost"] = float(cost[1])
        node["estimated_rows"] = float(cost[3])
        end = min(end, cost.start())
    if actual is not None:
        node["actual_first_row_ms"], node["actual_last_row_ms"] = float(actual[1]), float(actual[2])
        node["actual_rows"], node["actual_loops"] = float(actual[3]), float(actual[4])
        end = min(end, actual.start())
    elif _NEVER in text:
        node["actual_loops"], node["actual_rows"] = 0.0, 0.0
        end = min(end, text.index(_NEVER))
    node["operation"] = text[:end].strip()
    return node


def measured(tree: Mapping[str, Any]) -> bool:
    """Whether a tree tells what really happened."""
    inputs = [*(tree.get("inputs") or ()), *(tree.get("inputs_from_select_list") or ())]
    return "actual_loops" in tree or any(measured(each) for each in inputs)


def read_tree(tree: Mapping[str, Any], context: Context) -> Step:
    """The step of a tree, with all below it."""
    heading = str(tree.get("heading", ""))
    children: list[tuple[str, Step]] = []
    for each in [*(tree.get("inputs") or ()), *(tree.get("inputs_from_select_list") or ())]:
        words = str(each.get("heading", "") or each.get("operation", ""))
        bare = _LEADS.match(str(each.get("operation", "")))
        if bare is not None and each.get("inputs") and "estimated_rows" not in each:
            inner = each["inputs"][0]
            children.append((words, read_tree(inner, context)))
        else:
            children.append((words, read_tree(each, context)))
    line = str(tree.get("operation", "") or heading)
    about = told(line)
    plain = [step for words, step in children if not _SELECT.match(words)]
    if about.passes and len(plain) == 1:
        step = _passed_by(plain[0], about, tree, context)
        below = [pair for pair in children if pair[1] is not plain[0]]
        _hang(step, below)
        return step
    step = Step(about.operation, about.label, search=about.search, filter=about.filter,
                join=about.join)  # fmt: skip
    _named(step, about, tree, context)
    _measures(step, tree)
    _hang(step, children)
    _with_added(step)
    _with_costs_below(step)
    step.details |= {k: v for k, v in tree.items() if k not in _NOT_PLACED}
    return step


# Lines that only lead to what stands below them.
_LEADS = re.compile(r"(?:Hash|Batch input rows|Repeat until convergence|Select #\d+ .*)$")


def _named(step: Step, about: Told, tree: Mapping[str, Any], context: Context) -> None:
    alias = str(tree.get("alias", "") or about.alias)
    if alias and step.operation is not Operation.MATERIALIZE:
        step.more = context.named(alias)
        if "table_name" in tree:
            step.more["relation"] = str(tree["table_name"])
            step.more["schema"] = context.tables.get(alias, ("", ""))[0]
        if not step.more["output"]:
            columns = (str(c) for c in tree.get("used_columns") or ())
            step.more["output"] = tuple(f"{identifier(alias)}.{identifier(c)}" for c in columns)
        step.more["index"] = about.index
    elif alias:
        step.more = {"alias": alias}
    if about.skips:
        step.more["rows_skipped"] = about.skips
    if about.operation is Operation.SORT:
        step.more["sort_keys"] = about.keys
    if about.operation is Operation.AGGREGATE:
        said = tree.get("group_by")
        groups = said if isinstance(said, list) else ()
        outputs = [block.output for block in context.blocks.values() if block.output]
        if not groups and len(outputs) == 1:
            step.more["output"] = outputs[0]
        step.more |= {"group_keys": tuple(str(g) for g in groups), "by_hash": about.by_hash}
    if about.operation is Operation.RESULT and context.beforehand:
        step.more["index"] = context.beforehand
    if about.join_type:
        step.more["join_type"] = about.join_type
    if about.cte:
        step.more["cte_name"] = about.cte


def _measures(step: Step, tree: Mapping[str, Any]) -> None:
    step.cost = number(tree.get("estimated_total_cost"))
    if step.operation is Operation.RESULT and step.more.get("index"):
        step.cost = CONSTANT  # read while the plan is made, which the server prices at nothing
    step.startup = number(tree.get("estimated_first_row_cost")) or 0.0
    step.rows = number(tree.get("estimated_rows"))
    step.loops = number(tree.get("actual_loops"))
    if step.loops is None:
        return
    step.seen = number(tree.get("actual_rows")) or 0.0
    step.ms = number(tree.get("actual_last_row_ms"))
    step.first_ms = number(tree.get("actual_first_row_ms"))


# What passes a condition of which nothing is known, by the server's documented constants
# (sql/item.h: COND_FILTER_EQUALITY and others); all else is taken to pass.
_GUESSES = {
    PredicateKind.EQUALITY: 0.1, PredicateKind.RANGE: 1.0 / 3.0, PredicateKind.PATTERN: 1.0 / 9.0,
}  # fmt: skip
_NEAR = 0.01
_NEARLY_ALL = 0.9


def _guessed(conditions: Sequence[str], share: float) -> bool:
    """Whether so large a share is what the server takes for want of any statistics."""
    found = [p for text in conditions for p in predicates(text)]
    if share >= ALL_PASS:
        return True
    guesses = {1.0}
    for part in found:
        guesses = {one * other for one in guesses for other in _guesses_of(part)}
    return any(abs(share - guess) <= _NEAR * guess for guess in guesses)


def _guesses_of(part: Predicate) -> Iterator[float]:
    """What may be taken to pass one condition; one of a few values may pass more of them."""
    if part.choices:
        sides = [predicates(each) for each in alternatives(part.sql)]
        missed = {1.0}
        for side in sides:
            passed = {math.prod(each) for each in product(*map(_guesses_of, side))}
            missed = {one * (1.0 - other) for one in missed for other in passed}
        yield from (1.0 - each for each in missed)
    elif part.wrapping is not Wrapping.NONE or part.column is None or part.negated:
        yield 1.0
    else:
        yield _GUESSES.get(part.kind, 1.0)
        if part.kind is PredicateKind.EQUALITY:
            yield from (1.0 / few for few in range(2, 10))  # ENUM: one of so many values


def _passed_by(below: Step, about: Told, tree: Mapping[str, Any], context: Context) -> Step:
    """A filter as part of the step that it filters."""
    before = below.seen
    # A condition that led into the index is said here once more.
    parts = [text for each in about.filter for text in separate(each)]
    known = {part for each in below.search for part in separate(each)}
    below.filter = (*below.filter, *(part for part in parts if part not in known))
    rows, cost = number(tree.get("estimated_rows")), number(tree.get("estimated_total_cost"))
    if parts and below.rows and rows is not None and _guessed(parts, rows / below.rows):
        below.more["share_unknown"] = True
        _read_on(below, context)
    below.rows = below.rows if rows is None else rows
    below.cost = below.cost if cost is None else max(cost + below.added, below.cost or 0.0)
    if below.loops is None or "actual_rows" not in tree:
        return below
    below.seen = number(tree.get("actual_rows")) or 0.0
    below.ms = number(tree.get("actual_last_row_ms")) or below.ms
    if before is not None:
        below.discarded = Discarded(by_filter=max(0.0, before - below.seen))
    return below


def _read_on(step: Step, context: Context) -> None:
    """Price the first rows in the order of an index by how many are read until they have come.

    The server takes nearly every row to be wanted where it knows nothing of a condition, and
    prices those that it does expect by whatever index it knows the column from, an ignored one
    among them. Measured on 9.7: one row in an index's order costs it what one of a scan does.
    """
    alias = str(step.more.get("alias", ""))
    share, (rows, cost) = context.shares.get(alias), context.wholes.get(alias, (0.0, 0.0))
    in_order = step.operation in (Operation.INDEX_SCAN, Operation.INDEX_ONLY_SCAN)
    if share is None or not in_order or step.search or step.cost is None or not step.rows:
        return
    if step.rows >= rows * _NEARLY_ALL:
        return  # it reads them all, as no LIMIT ends it
    read = min(rows, step.rows / max(share, 1.0 / rows))
    step.added = cost * read / rows - step.cost
    step.cost += step.added


# Steps that rows go through when all of their values are there.
_AFTERWARDS = (Operation.SORT, Operation.LIMIT, Operation.OTHER, Operation.MATERIALIZE)


def _producing(top: Step) -> Step:
    """The step that makes the rows which those above it sort, cut or send."""
    step = top
    while step.operation in _AFTERWARDS and step.children and "alias" not in step.more:
        step = step.children[0]
    return step


def _with_costs_below(step: Step) -> None:
    """What the server leaves out: a sort, and sub-queries that run for each row."""
    inputs = [c for c in step.children if c.role not in (Role.SUBPLAN, Role.INIT_PLAN)]
    if len(inputs) != 1 or inputs[0].cost is None:
        return
    below = inputs[0].cost
    if step.operation is Operation.SORT and step.cost is None:
        step.cost = below + sort_cost(max(1.0, inputs[0].rows or 1.0))
        step.startup = step.cost * SORTED_FIRST
    elif step.cost is not None and step.operation is not Operation.LIMIT:
        step.cost = max(step.cost, below)


def _with_added(step: Step) -> None:
    """The steps above cost the more, by what the server did not expect of their first input."""
    first = next((c for c in step.children if c.role is Role.OUTER), None)
    if first is None or not first.added:
        return
    step.added = first.added
    if step.cost is not None:
        step.cost += step.added


def _hang(step: Step, children: Sequence[tuple[str, Step]]) -> None:
    joins = step.operation in (Operation.NESTED_LOOP, Operation.HASH_JOIN)
    place = 0
    for words, each in children:
        child = each
        select = _SELECT.match(words)
        if select is not None:
            dependent = "dependent" in select["about"]
            name = f"{'SubPlan' if dependent else 'InitPlan'} {select[1]}"
            child.more["subplan_name"] = name
            if not dependent:
                _renamed(step, f"(SubPlan {select[1]})", f"({name})")
            asking = _producing(step)
            asking.below(Role.SUBPLAN if dependent else Role.INIT_PLAN, child)
            if asking.cost is not None and child.cost is not None:
                turns = max(1.0, asking.rows or 1.0) if dependent else 1.0
                asking.cost += child.cost * turns
                _raised(step, asking)
            continue
        if joins and words == "Hash":
            hashed = Step(Operation.HASH, "Hash", cost=child.cost, rows=child.rows,
                          seen=child.seen, loops=child.loops, ms=child.ms)  # fmt: skip
            hashed.below(Role.OUTER, child)
            child = hashed
        member = step.operation is Operation.APPEND
        inner = joins and place > 0
        role = Role.MEMBER if member else Role.INNER if inner else Role.OUTER
        step.below(role, child)
        place += 1


def _raised(top: Step, asking: Step) -> None:
    """The steps between cost no less than the one below them."""
    if top is asking or not top.children:
        return
    _raised(top.children[0], asking)
    if top.cost is not None and top.children[0].cost is not None:
        top.cost = max(top.cost, top.children[0].cost)


def _renamed(step: Step, mark: str, name: str) -> None:
    step.filter = tuple(text.replace(mark, name) for text in step.filter)
    step.join = tuple(text.replace(mark, name) for text in step.join)
