"""One table of a plan, in the JSON that both members write (MySQL's first version of it)."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from humble_ledger.core.plans.model import Discarded, Operation, Role
from humble_ledger.core.statements.conditions import (
    Predicate,
    PredicateKind,
    Wrapping,
    columns_of,
    predicates,
)
from humble_ledger.engines.mysql.plans.context import Context, Price
from humble_ledger.engines.mysql.plans.notation import identifier, noted
from humble_ledger.engines.mysql.plans.steps import Step

_SEARCHED = frozenset(
    "ref eq_ref const system ref_or_null fulltext unique_subquery index_subquery hash_ref".split()
)
_LABELS = {
    "ALL": "Table scan", "index": "Full index scan", "range": "Range search",
    "index_merge": "Index merge", "eq_ref": "Single-row search", "const": "Constant",
    "system": "Constant", "fulltext": "Full-text search",
}  # fmt: skip
_SERVING = frozenset(
    (PredicateKind.EQUALITY, PredicateKind.RANGE, PredicateKind.MEMBERSHIP, PredicateKind.NULL_TEST)
)
# What an index on words, or on shapes, is searched by.
_MATCH = re.compile(r"\bmatch\s.*\bagainst\b", re.IGNORECASE | re.DOTALL)
_OF_SHAPES = re.compile(
    r"\b(?:mbr\w+|st_(?:contains|within|intersects|equals|touches|overlaps|crosses))\(",
    re.IGNORECASE,
)
# Of what the server says of a table, the keys that have a place of their own.
_PLACED = frozenset(
    """table_name access_type key used_key_parts ref rows filtered r_rows r_filtered r_loops
    r_table_time_ms r_other_time_ms r_total_time_ms attached_condition index_condition using_index
    materialized materialized_from_subquery rows_examined_per_scan rows_produced_per_join cost_info
    used_columns r_engine_stats attached_subqueries message""".split()
)
CONSTANT = 1.0
# What the server says in place of a plan when all that is asked are ends of indexes.
BEFOREHAND = "Select tables optimized away"
INDEX_ROW, LOOKUP = 0.2, 1.0  # MariaDB's, see `engines.mysql.costs`
ALL_PASS = 0.9999
Block = Callable[[Mapping[str, Any]], Step]


@dataclass(frozen=True, slots=True)
class Reading:
    """Reads tables; ``block`` reads a query block below one."""

    context: Context
    block: Block

    def step(
        self, table: Mapping[str, Any], price: Price | None, before: float, *, sorted_above: bool
    ) -> Step:
        """The step of a table that is read for each of ``before`` rows."""
        if "table_name" not in table:
            return self.told(str(table.get("message", "No tables")))
        alias = str(table["table_name"])
        below = table.get("materialized") or table.get("materialized_from_subquery")
        step = self._materialized(table, alias, below) if below else self._scan(table, alias)
        self._rows(step, table, price)
        self._time(step, table, sorted_above=sorted_above)
        self._cost(step, table, price, before)
        step.details.update({k: v for k, v in table.items() if k not in _PLACED})
        return step

    def told(self, message: str) -> Step:
        """A step of which there is nothing but a message."""
        if message != BEFOREHAND:
            return Step(Operation.RESULT, message, rows=1.0, cost=0.0)
        step = Step(Operation.RESULT, message, rows=1.0, cost=CONSTANT)
        if self.context.beforehand:
            step.more["index"] = self.context.beforehand
        return step

    def _scan(self, table: Mapping[str, Any], alias: str) -> Step:
        access = str(table.get("access_type", "ALL"))
        covered = bool(table.get("using_index"))
        access = access.removeprefix("hash_") if access != "hash_ref" else access
        index = str(table.get("key", "") or "")
        if index.startswith("#hash#"):
            index = index.partition(":")[2]
            access = access if access != "ref" else "ALL"
        if access == "index" and index == "PRIMARY":
            access = "ALL"  # the rows lie in this order
        label = _LABELS.get(access, "Search" if access in _SEARCHED else access)
        parts = [str(part) for part in table.get("used_key_parts") or ()]
        more = self.context.named(alias)
        step = Step(Operation.FULL_SCAN, label, more=more)
        if "used_columns" in table and not more["output"]:
            columns = (str(c) for c in table["used_columns"])
            more["output"] = tuple(f"{identifier(alias)}.{identifier(c)}" for c in columns)
        filters = _conjuncts(table.get("attached_condition"))
        pushed = _conjuncts(table.get("index_condition"))
        if access == "index_merge":
            step.operation = Operation.BITMAP_SCAN
            for child in _merged(table):
                step.below(Role.OUTER, child)
        elif index and access != "ALL":
            step.operation = Operation.INDEX_ONLY_SCAN if covered else Operation.INDEX_SCAN
            more["index"] = index
        search: list[str] = []
        if access == "fulltext":
            search = [_text(p) for p in filters if _MATCH.search(_text(p))]
            filters = [p for p in filters if not _MATCH.search(_text(p))]
        elif access in _SEARCHED:
            refs = [str(value) for value in table.get("ref") or ()]
            search = list(self.context.search(alias, parts, refs))
            given = {part for part, _ in zip(parts, refs, strict=False)}
            pushed = [p for p in pushed if not _serves(p, given)]
            filters = [p for p in filters if not _equals(p, given)]
        elif access in ("range", "index"):
            served = set(parts) if access == "range" else set()
            search = [_text(p) for p in (*pushed, *filters) if _serves(p, served)]
            pushed = [p for p in pushed if not _serves(p, served)]
            filters = [p for p in filters if not _serves(p, served)]
        step.search = tuple(search)
        # What the index holds and does not search by is tested before the row is fetched.
        step.filter = tuple(_text(p) for p in (*pushed, *filters))
        return step

    def _materialized(self, table: Mapping[str, Any], alias: str, below: Any) -> Step:
        inner = self.block(below["query_block"]) if "query_block" in below else None
        step = Step(Operation.MATERIALIZE, "Materialized", more={"alias": alias})
        if inner is not None:
            step.below(Role.OUTER, inner)
        step.filter = tuple(_text(p) for p in _conjuncts(table.get("attached_condition")))
        return step

    def _read(self, step: Step, table: Mapping[str, Any], price: Price | None) -> float | None:
        """The rows that are read of a table each time.

        In the order of an index MariaDB expects no more rows than are wanted, as if each passed:
        of those that seldom do, many are read for one.
        """
        read = number(table.get("rows", table.get("rows_examined_per_scan")))
        known = self.context.shares.get(str(table.get("table_name")))
        in_order = step.more.get("index") and table.get("access_type") == "index"
        if read is None or known is None or price is None or not in_order or not step.filter:
            return read
        return max(read, min(price.rows, read / max(known, 1.0 / max(1.0, price.rows))))

    def _rows(self, step: Step, table: Mapping[str, Any], price: Price | None) -> None:
        read = self._read(step, table, price)
        share = number(table.get("filtered"))
        kept = 1.0 if share is None else share / 100.0
        if kept >= ALL_PASS and step.filter:
            known = self.context.shares.get(str(table.get("table_name")))
            step.more["share_unknown"] = True
            step.priced = None if known is None or read is None else read * known
        step.rows = None if read is None else read * kept
        if "r_loops" not in table and "r_rows" not in table:
            return
        step.loops = number(table.get("r_loops"))
        seen, passed = number(table.get("r_rows")), number(table.get("r_filtered"))
        if step.loops is None:
            step.loops = 1.0  # a change of rows has no count of its own
        if table.get("access_type") in ("const", "system"):
            # It was read while the plan was made.
            step.loops, seen = 1.0, 1.0 if seen is None else seen
        if step.loops == 0 or seen is None:
            step.seen = 0.0
            return
        part = 1.0 if passed is None else passed / 100.0
        step.seen = seen * part
        # The plain table says that something is tested, and not what.
        tested = step.filter or "Using where" in str(table.get("extra", ""))
        step.discarded = Discarded(by_filter=seen * (1.0 - part) if tested else None)
        pages = (table.get("r_engine_stats") or {}).get("pages_accessed")
        step.pages = None if pages is None else int(pages)

    def _time(self, step: Step, table: Mapping[str, Any], *, sorted_above: bool) -> None:
        spent = number(table.get("r_table_time_ms"))
        if spent is None or not step.loops:
            return
        # What is sorted next is sorted while the rows come, and counted with them.
        others = 0.0 if sorted_above else number(table.get("r_other_time_ms")) or 0.0
        below = sum(child.total_ms() or 0.0 for child in step.children)
        step.ms = (spent + others + below) / step.loops

    def _cost(
        self, step: Step, table: Mapping[str, Any], price: Price | None, before: float
    ) -> None:
        said = table.get("cost_info")
        total = None
        if isinstance(said, Mapping):
            parts = (number(said.get("read_cost")), number(said.get("eval_cost")))
            total = sum(p for p in parts if p is not None)
        elif price is not None and step.more.get("index") and table.get("access_type") == "index":
            # Chosen for its order after all was priced as a scan: as many rows as are wanted.
            each = INDEX_ROW if table.get("using_index") else INDEX_ROW + LOOKUP
            total = each * (self._read(step, table, price) or 0.0) * max(1.0, before)
        elif price is not None:
            total = price.cost
        elif table.get("access_type") in ("const", "system"):
            total = CONSTANT  # read while the plan is made, which the server prices at nothing
        if total is None:
            return
        below = sum(child.cost or 0.0 for child in step.children)
        step.cost = total / max(1.0, before) + below


def rows_by_server(table: Mapping[str, Any]) -> float:
    """Rows that one search of a table gives by the server's own figures; 1 where unknown."""
    read = number(table.get("rows", table.get("rows_examined_per_scan")))
    share = number(table.get("filtered"))
    return (1.0 if read is None else read) * (1.0 if share is None else share / 100.0)


def _merged(table: Mapping[str, Any]) -> Sequence[Step]:
    """The searches of an index merge."""
    found: list[Step] = []
    merge = table.get("index_merge")
    if isinstance(merge, Mapping):
        waiting: list[Any] = list(merge.values())
        while waiting:
            part = waiting.pop(0)
            if isinstance(part, list):
                waiting = [*part, *waiting]
            elif isinstance(part, Mapping) and isinstance(part.get("range"), Mapping):
                found.append(_bitmap(str(part["range"].get("key", ""))))
            elif isinstance(part, Mapping):
                waiting = [*part.values(), *waiting]
    else:
        text = str(table.get("key", "")).partition("(")[2].replace("(", ",").replace(")", ",")
        names = (n.strip() for n in text.split(","))
        kinds = ("", "union", "intersect", "sort_union", "sort_intersect")
        found = [_bitmap(name) for name in names if name not in kinds]
    return found


def _bitmap(name: str) -> Step:
    return Step(Operation.BITMAP_INDEX, "Search", more={"index": name})


def _conjuncts(text: object) -> list[Predicate | str]:
    """The parts of a condition; as one text where it cannot be taken apart."""
    shown = noted(str(text)) if text else ""
    if not shown:
        return []
    found = predicates(shown)
    return list(found) if found else [shown]


def separate(condition: str) -> list[str]:
    """The parts that AND joins, each in brackets."""
    found = predicates(condition)
    return [_text(part) for part in found] or [condition]


def _text(part: Predicate | str) -> str:
    text = part if isinstance(part, str) else part.sql
    return text if text.startswith("(") and text.endswith(")") else f"({text})"


def _serves(part: Predicate | str, columns: set[str]) -> bool:
    if columns and not isinstance(part, str) and _OF_SHAPES.search(part.sql):
        return not columns.isdisjoint(ref.column for ref in columns_of(part.sql))
    if isinstance(part, str) or part.column is None or part.negated:
        return False
    plain = part.wrapping is Wrapping.NONE and part.column.column in columns
    prefix = part.kind is PredicateKind.PATTERN and not part.value.lstrip("'").startswith("%")
    return plain and (part.kind in _SERVING or prefix)


def _equals(part: Predicate | str, columns: set[str]) -> bool:
    return (
        not isinstance(part, str) and part.kind is PredicateKind.EQUALITY and _serves(part, columns)
    )


def number(value: object) -> float | None:
    """A number, which may stand in a string; None for none."""
    if value is None or isinstance(value, bool):
        return None
    try:
        return float(str(value))
    except ValueError:
        return None
