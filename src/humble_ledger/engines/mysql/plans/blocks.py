"""Query blocks: joins, sorts, groups and sub-queries in the JSON that both members write.

MariaDB nests what it does around the tables by its own words (filesort, temporary_table,
block-nl-join); MySQL's first version by the clause it serves (ordering_operation). Both leave out
a grouping that needs no temporary table, and LIMIT: these come from the context.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from humble_ledger.core.plans.model import Memory, Operation, Role
from humble_ledger.engines.mysql.costs import SORTED_FIRST
from humble_ledger.engines.mysql.plans.context import Block, Context, Price
from humble_ledger.engines.mysql.plans.notation import keys_of, noted
from humble_ledger.engines.mysql.plans.steps import DEEPEST, Step, over
from humble_ledger.engines.mysql.plans.tables import Reading, number, rows_by_server

# What shows that rows are read below a part, whatever it is.
_READS = frozenset(("table", "nested_loop", "query_block", "filesort", "temporary_table"))
_SUBQUERIES = (
    "subqueries", "attached_subqueries", "select_list_subqueries", "having_subqueries",
    "order_by_subqueries", "group_by_subqueries", "optimized_away_subqueries",
    "update_value_subqueries", "insert_values_subqueries",
)  # fmt: skip
_OPERATIONS = (
    "ordering_operation", "grouping_operation", "duplicates_removal", "buffer_result", "windowing",
)  # fmt: skip
_UNITS = {"": 1, "KIB": 1024, "MIB": 1024**2, "GIB": 1024**3, "K": 1024, "M": 1024**2}


@dataclass(slots=True)
class _Below:
    """A sub-query that hangs below whoever asks for it."""

    number: int
    step: Step
    hashed: bool
    correlated: bool


@dataclass(slots=True)
class BlockReader:
    """Reads query blocks into steps; ``sort_cost`` prices a sort of so many rows."""

    context: Context
    measured: bool
    sort_cost: Any = None
    _depth: int = 0
    _tables: Reading = field(init=False)
    _waiting: list[list[_Below]] = field(default_factory=list)
    _number: int = 0
    _group_seen: bool = False

    def __post_init__(self) -> None:
        """Tables ask back for the blocks below them."""
        self._tables = Reading(self.context, self.block)

    def block(self, block: Mapping[str, Any]) -> Step:
        """The step that gives what a query block gives.

        Raises:
            ValueError: it is nested deeper than anybody reads.
        """
        self._depth += 1
        if self._depth > DEEPEST:
            raise ValueError(f"more than {DEEPEST} query blocks below each other")
        outer, seen = self._number, self._group_seen
        self._number, self._group_seen = int(block.get("select_id", 0) or 0), False
        self._waiting.append([])
        about = self.context.blocks.get(self._number, Block())
        step = self._inner(block, about)
        step = self._grouped(step, about)
        step = self._having(step, block)
        self._hang(step, self._waiting.pop())
        self._timed(step, block)
        step = _limited(step, about)
        self._number, self._group_seen = outer, seen
        self._depth -= 1
        return step

    def _inner(self, part: Mapping[str, Any], about: Block, *, sorted_above: bool = False) -> Step:
        """The step of whatever stands in a part of a block."""
        self._subqueries(part)
        if "union_result" in part:
            return self._union(part["union_result"], "Union")
        if "recursive_union" in part:
            return self._union(part["recursive_union"], "Recursive union")
        if "filesort" in part:
            return self._sorted(part["filesort"], about)
        for through in ("read_sorted_file", "buffer"):  # a change's rows are found first
            if through in part:
                return self._inner(part[through], about)
        if "temporary_table" in part:
            return self._temporary(self._inner(part["temporary_table"], about), about)
        if "window_functions_computation" in part:
            return self._windows(part["window_functions_computation"], about)
        for name in _OPERATIONS:
            if name in part:
                return self._operation(name, part[name], about)
        return self._source(part, about, sorted_above=sorted_above)

    def _source(self, part: Mapping[str, Any], about: Block, *, sorted_above: bool) -> Step:
        """The step of the tables that a part reads."""
        if "insert_from" in part:
            step = self._inner(part["insert_from"], about)
            return over(Operation.MODIFY, "Insert", step)
        if "nested_loop" in part:
            return self._joined(part["nested_loop"], about, sorted_above=sorted_above)
        if "table" in part:
            return self._table(part["table"], about, sorted_above=sorted_above)
        if "query_block" in part:
            return self.block(part["query_block"])
        if "message" in part:
            return self._tables.told(str(part["message"]))
        unread = next(
            (k for k, v in part.items() if isinstance(v, Mapping) and _READS & v.keys()), ""
        )
        if unread:
            return Step(Operation.OTHER, unread)  # what it costs is not known, rather than nothing
        return Step(Operation.RESULT, "No tables", rows=1.0, cost=0.0)

    def _table(self, table: Mapping[str, Any], about: Block, *, sorted_above: bool) -> Step:
        self._subqueries(table)
        price = self._price(str(table.get("table_name", "")))
        step = self._tables.step(table, price, 1.0, sorted_above=sorted_above)
        for word in ("update", "delete", "insert", "replace"):
            if table.get(word) or (table.get("insert") and word == "insert"):
                relation = {k: v for k, v in step.more.items() if k in ("schema", "relation")}
                return over(Operation.MODIFY, word.capitalize(), step, **relation)
        return step

    def _price(self, alias: str) -> Price | None:
        prices = self.context.prices.get(self._number, self.context.materialized)
        return next((price for price in prices if price.table == alias), None)

    def _joined(
        self, members: Sequence[Mapping[str, Any]], about: Block, *, sorted_above: bool
    ) -> Step:
        left: Step | None = None
        passed = 1.0
        for member in members:
            name, body = next(iter(member.items()))
            if name in ("duplicates_removal", "duplicate_removal"):
                inner = self._inner(body, about)
                step = over(Operation.DISTINCT, "Remove duplicates", inner)
                left = step if left is None else self._join(left, step, {})
                continue
            if name == "read_sorted_file":
                left = self._inner(member, about)
                continue
            table = body if name == "table" else body.get("table", body)
            self._subqueries(table)
            price = self._price(str(table.get("table_name", "")))
            # Of the rows before it, as the server took them: by that it has reckoned the cost.
            before = max(1.0, passed)
            passed *= rows_by_server(table)
            inner = self._tables.step(table, price, before, sorted_above=sorted_above)
            if name != "table":
                inner.details.update(
                    {k: v for k, v in body.items() if k in ("keys", "r_keys", "buffer_size",
                                                            "buffer_type", "mrr_type")}
                )  # fmt: skip
                if name == "range-checked-for-each-record":
                    inner.label = "Range checked for each record"
            if left is None:
                left = inner
            else:
                left = self._join(left, inner, body if name == "block-nl-join" else {})
                said = (table.get("cost_info") or {}).get("prefix_cost")
                left.cost = number(said) if said is not None else left.cost
        return left or Step(Operation.RESULT, "No tables", rows=1.0, cost=0.0)

    def _join(self, left: Step, inner: Step, buffer: Mapping[str, Any]) -> Step:
        kind = str(buffer.get("join_type", ""))
        hashed = kind.endswith("H") or inner.details.get("using_join_buffer") == "hash join"
        label = {"": "Nested loop", "BNL": "Nested loop over a join buffer",
                 "BKA": "Nested loop by batches of keys"}.get(kind, "Nested loop")  # fmt: skip
        join = Step(Operation.HASH_JOIN if hashed else Operation.NESTED_LOOP, label)
        if hashed:
            join.label = "Hash join"
            # Rows of the left are kept in the buffer, and those of the right looked up in it.
            inner = over(Operation.HASH, "Join buffer", inner)
        ties = noted(str(buffer.get("attached_condition") or ""))
        join.join = (ties,) if ties else ()
        if hashed and not join.join and inner.children[0].search:
            join.join, inner.children[0].search = inner.children[0].search, ()
        join.details = {
            k: v for k, v in buffer.items() if k in ("buffer_size", "buffer_type", "join_type")
        }
        outer_join = any("trigcond" in str(v) for v in buffer.values())
        join.more["join_type"] = _join_type(inner, outer=outer_join)
        join.below(Role.OUTER, left)
        join.below(Role.INNER, inner)
        if left.rows is not None and inner.rows is not None:
            join.rows = left.rows * inner.rows
            join.priced = (left.rows_priced() or 0.0) * (inner.rows_priced() or 0.0)
        if left.cost is not None and inner.cost is not None:
            # What is put into a table of its own is made once, and looked up for each row.
            made = inner.operation is Operation.MATERIALIZE
            once = sum(child.cost or 0.0 for child in inner.children) if made else 0.0
            each = max(1.0, left.rows_priced() or 1.0)
            join.cost = left.cost + once + each * (inner.cost - once)
        join.startup = left.startup
        self._join_measured(join, left, inner, buffer)
        return join

    def _join_measured(
        self, join: Step, left: Step, inner: Step, buffer: Mapping[str, Any]
    ) -> None:
        if not self.measured or left.loops is None:
            return
        join.loops = left.loops
        if not left.loops:
            join.seen = 0.0
            return
        if "r_effective_rows" in buffer:
            each = number(buffer.get("r_effective_rows")) or 0.0
            share = number(buffer.get("r_filtered"))
            turns = number(buffer.get("r_loops")) or 0.0
            join.seen = turns * each * (1.0 if share is None else share / 100.0) / left.loops
        else:
            join.seen = (inner.seen or 0.0) * (inner.loops or 0.0) / left.loops
        extra = (number(buffer.get("r_unpack_time_ms")) or 0.0) + (
            number(buffer.get("r_other_time_ms")) or 0.0
        )
        if left.ms is not None:
            join.ms = ((left.total_ms() or 0.0) + (inner.total_ms() or 0.0) + extra) / left.loops

    def _sorted(self, sort: Mapping[str, Any], about: Block) -> Step:
        temporary = "temporary_table" in sort
        child = self._inner(sort, about, sorted_above=not temporary)
        step = over(Operation.SORT, "Filesort", child)
        step.more["sort_keys"] = keys_of(str(sort.get("sort_key", "")))
        self._priced_sort(step)
        if "r_loops" in sort:
            step.loops = number(sort.get("r_loops")) or child.loops
            step.seen = number(sort.get("r_output_rows"))
            took = number(sort.get("r_total_time_ms"))
            if took is not None and step.loops:
                below = child.total_ms() or 0.0
                step.ms = (took + below if temporary else max(took, below)) / step.loops
            size = _bytes(sort.get("r_buffer_size"))
            passes = int(number(sort.get("r_sort_passes")) or 0)
            method = "priority queue" if sort.get("r_used_priority_queue") is True else "sort"
            if passes:
                method = f"{passes} passes over files"
            # How much went to disk is not told: that some did, is.
            step.memory = Memory(method, size, (size or 1) * passes if passes else 0)
        step.details = {k: v for k, v in sort.items() if k.startswith("r_") or k == "sort_key"}
        return step

    def _priced_sort(self, step: Step) -> None:
        rows = step.rows_priced()
        if step.cost is not None and self.sort_cost is not None and rows:
            step.cost += self.sort_cost(rows)
            # All of it but handing the rows on.
            step.startup = step.cost * SORTED_FIRST

    def _temporary(self, child: Step, about: Block) -> Step:
        if about.group and not self._group_seen:
            self._group_seen = True
            step = over(Operation.AGGREGATE, "Group in a temporary table", child)
            step.more |= {"group_keys": about.group, "by_hash": True}
            step.rows, step.priced, step.seen = None, None, None
        elif about.distinct:
            step = over(Operation.DISTINCT, "Distinct in a temporary table", child)
            step.rows, step.priced, step.seen = None, None, None
        else:
            step = over(Operation.MATERIALIZE, "Temporary table", child)
        return step

    def _operation(self, name: str, part: Mapping[str, Any], about: Block) -> Step:
        """An operation of MySQL's, by the clause it serves."""
        step = self._inner(part, about)
        if name == "grouping_operation":
            if part.get("using_filesort"):
                step = over(Operation.SORT, "Filesort", step)
                step.more["sort_keys"] = about.group
                self._priced_sort(step)
            stored = bool(part.get("using_temporary_table"))
            label = "Group in a temporary table" if stored else "Group"
            step = over(Operation.AGGREGATE, label, step)
            step.more |= {"group_keys": about.group, "by_hash": stored}
            step.rows, step.priced, self._group_seen = None, None, True
        elif name == "duplicates_removal":
            step = over(Operation.DISTINCT, "Remove duplicates", step)
            step.rows, step.priced = None, None
        elif name == "windowing":
            step = over(Operation.WINDOW, "Window functions", step)
        elif part.get("using_filesort"):
            step = over(Operation.SORT, "Filesort", step)
            self._priced_sort(step)
        elif part.get("using_temporary_table"):
            step = over(Operation.MATERIALIZE, "Temporary table", step)
        return step

    def _windows(self, part: Mapping[str, Any], about: Block) -> Step:
        step = self._inner({k: v for k, v in part.items() if k != "sorts"}, about)
        for each in part.get("sorts") or ():
            sort = each.get("filesort", {})
            step = over(Operation.SORT, "Filesort", step)
            step.more["sort_keys"] = keys_of(str(sort.get("sort_key", "")))
            self._priced_sort(step)
            took = number(sort.get("r_total_time_ms"))
            if took is not None and step.ms is not None and step.loops:
                step.ms += took / step.loops
        return over(Operation.WINDOW, "Window functions", step)

    def _union(self, union: Mapping[str, Any], label: str) -> Step:
        step = Step(Operation.APPEND, label)
        for each in union.get("query_specifications") or ():
            step.below(Role.MEMBER, self.block(each["query_block"]))
        costs, rows = ([c.cost for c in step.children], [c.rows for c in step.children])
        step.cost = None if None in costs or not costs else sum(c or 0.0 for c in costs)
        step.rows = None if None in rows or not rows else sum(r or 0.0 for r in rows)
        if self.measured:
            step.loops = number(union.get("r_loops")) or 1.0
            step.seen = number(union.get("r_rows"))
            times = [child.total_ms() for child in step.children]
            step.ms = sum(t or 0.0 for t in times) if any(t is not None for t in times) else None
        if union.get("using_temporary_table") or "table_name" in union:
            step.details = {"table_name": union.get("table_name")}
        return step

    def _grouped(self, step: Step, about: Block) -> Step:
        """A grouping that needs no temporary table, which the server does not show."""
        if self._group_seen or not (about.group or about.aggregates):
            return step
        if step.operation is Operation.SORT and about.group:
            return step  # the sort of groups stands above them
        grouped = over(Operation.AGGREGATE, "Group" if about.group else "Aggregate", step)
        grouped.more["group_keys"] = about.group
        grouped.more["output"] = about.output
        grouped.rows, grouped.priced = None if about.group else 1.0, None
        if self.measured:
            grouped.seen = None if about.group else 1.0
        return grouped

    def _having(self, step: Step, block: Mapping[str, Any]) -> Step:
        said = block.get("having_condition") or block.get("const_condition")
        if said and str(said) != "1":
            step.filter = (*step.filter, noted(str(said)))
        return step

    def _timed(self, step: Step, block: Mapping[str, Any]) -> None:
        """The whole block took what its steps took, and what the server adds for it."""
        took, loops = number(block.get("r_total_time_ms")), number(block.get("r_loops"))
        if not self.measured:
            return
        if step.loops is None or (loops is not None and step.operation is not Operation.SORT):
            step.loops = loops if loops is not None else step.loops
        step.loops = 1.0 if step.loops is None else step.loops
        if took is not None and step.loops:
            step.ms = max(step.ms or 0.0, took / step.loops)

    def _subqueries(self, part: Mapping[str, Any]) -> None:
        for name in _SUBQUERIES:
            for each in part.get(name) or ():
                self._waiting[-1].append(self._below(each))

    def _below(self, each: Mapping[str, Any]) -> _Below:
        cache, stored = each.get("expression_cache"), each.get("materialization")
        holder = cache or stored or each
        table = each.get("table")
        if isinstance(table, Mapping) and "materialized_from_subquery" in table:
            stored, holder = table, table["materialized_from_subquery"]
        block = holder.get("query_block", {}) if isinstance(holder, Mapping) else {}
        select = int(block.get("select_id", 0) or 0)
        step = self.block(block)
        about = self.context.blocks.get(select)
        dependent = each.get("dependent")
        if dependent is not None:
            correlated = bool(dependent)
        else:
            correlated = bool(cache) or (about.correlated if about is not None else False)
            correlated = correlated or (step.loops or 0.0) > 1.0 or _looked_up(block)
        if isinstance(cache, Mapping) and self.measured and "r_hit_ratio" in cache:
            held = over(Operation.MEMOIZE, "Cache of results", step)
            held.details = {k: v for k, v in cache.items() if k != "query_block"}
            held.loops = max(number(cache.get("r_loops")) or 0.0, step.loops or 0.0)
            held.ms = (step.total_ms() or 0.0) / held.loops if held.loops else None
            step = held
        return _Below(select, step, stored is not None, correlated and stored is None)

    def _ties(self, select: int) -> tuple[str, ...]:
        about = self.context.blocks.get(select)
        return about.ties if about is not None else ()

    def _hang(self, top: Step, found: Sequence[_Below]) -> None:
        for each in found:
            name = f"SubPlan {each.number}"
            mark = f"({name})"
            asking = _asking(top, mark)
            if asking is None or asking.operation in _AFTERWARDS:
                asking = _producing(top)  # its rows come with the value in them
            if each.hashed:
                _renamed(top, mark, f"(hashed {name})")
                # By these an index could find the rows, so that none need be looked up.
                each.step.join = (*each.step.join, *self._ties(each.number))
            elif not each.correlated:
                name = f"InitPlan {each.number}"
                _renamed(top, mark, f"({name})")
            each.step.more["subplan_name"] = name
            role = Role.SUBPLAN if each.correlated or each.hashed else Role.INIT_PLAN
            asking.below(role, each.step)
            if each.step.cost is None or top.cost is None:
                continue
            # A dependent one counts once in the server's figure; it runs for each row.
            turns = 1.0
            if each.correlated:
                turns = max(1.0, asking.rows_priced() or 1.0)
            for step in _down_to(top, asking):
                if step.cost is not None:
                    step.cost += each.step.cost * turns


# Steps that rows go through when all of their values are there.
def _looked_up(block: Mapping[str, Any]) -> bool:
    """Whether a sub-query that names nothing outside is searched anew for each value of IN."""
    tables = [block, *block.get("nested_loop", ())]
    kinds = {str((each.get("table") or {}).get("access_type", "")) for each in tables}
    return not kinds.isdisjoint(("index_subquery", "unique_subquery"))


_AFTERWARDS = (Operation.SORT, Operation.MATERIALIZE, Operation.LIMIT, Operation.DISTINCT)


def _producing(top: Step) -> Step:
    """The step that makes the rows which those above it sort, store or cut."""
    step = top
    while step.operation in _AFTERWARDS and step.children and "alias" not in step.more:
        step = step.children[0]
    return step


def _down_to(top: Step, wanted: Step) -> list[Step]:
    """The steps from the top to one below it; the top alone where it is not below."""
    if top is wanted:
        return [top]
    for child in top.children:
        below = _down_to(child, wanted) if child is not top else []
        if below and below[-1] is wanted:
            return [top, *below]
    return [top]


def _limited(step: Step, about: Block) -> Step:
    """The rows that LIMIT leaves; those that OFFSET passes over are made all the same."""
    if about.limit is None:
        return step
    limited = over(Operation.LIMIT, "Limit", step)
    rows = step.rows_priced()
    if rows is not None:
        skipped = min(rows, about.offset)
        limited.rows, limited.priced = min(rows - skipped, about.limit), None
        if limited.cost is not None and rows > 0:
            run = (limited.cost - step.startup) / rows
            limited.startup = step.startup + run * skipped
            limited.cost = limited.startup + run * limited.rows
    if limited.seen is not None:
        limited.seen = min(max(0.0, limited.seen - about.offset), about.limit)
    return limited


def _join_type(inner: Step, *, outer: bool) -> str:
    below = inner.children[0] if inner.operation is Operation.HASH else inner
    if below.details.get("not_exists"):
        return "Anti"
    if "first_match" in below.details:
        return "Semi"
    return "Left" if outer else "Inner"


def _asking(step: Step, mark: str) -> Step | None:
    if any(mark in text for text in (*step.search, *step.filter, *step.join)):
        return step
    for child in step.children:
        found = _asking(child, mark)
        if found is not None:
            return found
    return None


def _renamed(step: Step, mark: str, name: str) -> None:
    step.search, step.filter, step.join = (
        tuple(text.replace(mark, name) for text in texts)
        for texts in (step.search, step.filter, step.join)
    )
    for child in step.children:
        _renamed(child, mark, name)


def _bytes(text: object) -> int | None:
    """Bytes of a size as it is told: "31KiB", "304"."""
    shown = str(text or "").strip()
    digits = shown.rstrip("KMGiBkmgb")
    count = number(digits)
    unit = _UNITS.get(shown[len(digits) :].upper())
    return None if count is None or unit is None else int(count * unit)
