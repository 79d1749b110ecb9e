"""Oracle's plans: the text of its display package, and rows of its views as CSV or JSON.

By the documentation of the display package (basic, typical, all, statistics of the last run) and
of the views; not tried on a real server. It tells costs and rows of one start of each step;
measured, rows, time and blocks over all starts. Figures that it shortens ("12K") are rounded.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.plans.model import Memory, Operation, Pages, Plan, Role
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.masking import masked_expression
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.elsewhere.drafts import Draft, assembled, inputs, with_rows_as_cost
from humble_ledger.engines.elsewhere.names import quiet
from humble_ledger.engines.elsewhere.oracle import display, view_rows
from humble_ledger.engines.elsewhere.oracle.notation import noted
from humble_ledger.engines.elsewhere.oracle.operators import join_type, operation
from humble_ledger.engines.elsewhere.oracle.rows import Display, Row

ENGINE = "oracle"
_SCANS = (Operation.FULL_SCAN, Operation.ROW_LOOKUP, Operation.INDEX_SCAN,
          Operation.INDEX_ONLY_SCAN)  # fmt: skip
_BY_INDEX = (Operation.INDEX_ONLY_SCAN, Operation.BITMAP_INDEX)
# Sections in which values stand, and those in which names alone do.
_WITH_VALUES = ("Predicate Information", "Peeked Binds", "Outline Data", "Hint Report",
                "Column Projection", "Remote SQL")  # fmt: skip
_WITHOUT_VALUES = ("Query Block Name", "Note", "Plan hash value")
_NUMBERED = re.compile(r"^\s*\d+ - (?:access|filter|storage)?\(?")
_QUALIFIED = re.compile(r"(?<![\w.'\"])([a-z_][\w$]*)\.[a-z_\"]")
_PASSES = ("", "once through temporary space", "several times through temporary space")


class OraclePlans(Reading):
    """Plans of Oracle."""

    engine = ENGINE
    rests_on = (
        "the documentation of the display package and of the views of plans; "
        "not tried on a real server"
    )
    dialect = Dialect(methods=frozenset((IndexMethod.SORTED,)), includes=False)

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What a plan shows by itself."""
        from humble_ledger.engines.elsewhere.findings import RULES  # noqa: PLC0415

        return RULES

    def looks_like(self, text: str) -> bool:
        """Whether a text has the head of such a table, or the columns of such a view."""
        return display.HEADER.search(text) is not None or view_rows.looks_like(text)

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """Each plan of a text."""
        text = str(document)
        printed = display.HEADER.search(text) is not None
        found = display.displays(text) if printed else view_rows.displays(text)
        return [SavedPlan(_plan(each), each.statement) for each in found]

    def masked(self, document: object) -> object:
        """The text without its statement and without literals in its conditions."""
        text = str(document)
        if display.HEADER.search(text) is None:
            return view_rows.masked(text)
        return "\n".join(_masked_lines(text.splitlines()))


def _plan(found: Display) -> Plan:
    measured = found.measured
    root = _tree(found.rows, measured)
    told = any(draft.cost is not None or draft.ms is not None for draft in root.walk())
    if not told:
        with_rows_as_cost(root)
    top = found.rows[0]
    took = next((row.seen_ms for row in found.rows if row.seen_ms is not None), None)
    details: dict[str, object] = {}
    if found.sql_id:
        details["SQL_ID"] = found.sql_id
    if found.plan_hash:
        details["Plan hash value"] = found.plan_hash
    notes = list(found.notes)
    if measured and any(row.queue for row in found.rows):
        notes.append("times of parallel steps are summed over processes")
    return Plan(
        ENGINE,
        "",
        assembled(root, measured=measured),
        measured,
        execution_ms=(top.seen_ms if top.seen_ms is not None else took) if measured else None,
        own_estimates=not told,
        details=details,
        remarks=tuple(notes),
    )


def _tree(rows: Sequence[Row], measured: bool) -> Draft:
    """The steps by how far each is set in."""
    above: list[tuple[int, Draft, Row]] = []
    root: Draft | None = None
    made: list[tuple[Draft, Row]] = []
    for row in rows:
        draft = _draft(row, measured)
        above = [each for each in above if each[0] < row.depth]
        if above:
            above[-1][1].children.append(draft)
        elif root is not None:
            root.children.append(draft)
        root = root or draft
        above.append((row.depth, draft, row))
        made.append((draft, row))
    assert root is not None  # a display has rows
    for draft, row in reversed(made):
        inputs(draft)
        _roles(draft, row)
        _with_index(draft)
        _join_of_sorts(draft)
    return root


def _draft(row: Row, measured: bool) -> Draft:
    what = operation(row.operation)
    draft = Draft(what, row.operation, rows=row.rows, cost=row.cost)
    if measured:
        draft.loops, draft.seen, draft.ms = row.starts or 0.0, row.seen_rows or 0.0, row.seen_ms
        if row.buffers is not None:
            read = row.reads or 0.0
            draft.pages = Pages(
                cached=round(max(0.0, row.buffers - read)),
                read=round(read),
                written=round(row.writes or 0.0),
            )
    _names(draft, row)
    access, tested = noted(row.access), noted(row.filter)
    _alias_of_conditions(draft, (access, tested))
    joins = (Operation.HASH_JOIN, Operation.MERGE_JOIN, Operation.SORT)
    if access:
        (draft.join if what in joins else draft.search).append(access)
    if tested and not (what is Operation.SORT and access):
        draft.filter.append(tested)
    if row.memory_bytes is not None or row.temp_bytes or row.passes:
        method = _PASSES[min(row.passes or 0, 2)]
        draft.memory = Memory(method, row.memory_bytes, row.temp_bytes or 0)
    draft.remarks += _remarks(row)
    draft.details = dict(row.more)
    return draft


def _names(draft: Draft, row: Row) -> None:
    name, owner = quiet(row.name), quiet(row.owner)
    alias = quiet(row.alias)
    if draft.operation in _BY_INDEX:
        draft.more = {"index": name, "alias": alias}
    elif draft.operation in _SCANS or draft.operation is Operation.MODIFY:
        draft.more = {"relation": name, "schema": owner, "alias": "" if alias == name else alias}
    elif name and draft.operation is Operation.SUBQUERY:
        draft.more = {"alias": alias or name}
    elif name:
        draft.details["name"] = name
    joins = (Operation.NESTED_LOOP, Operation.HASH_JOIN, Operation.MERGE_JOIN)
    if draft.operation in joins:
        draft.more["join_type"] = join_type(row.operation)
    if draft.operation in (Operation.AGGREGATE, Operation.DISTINCT):
        draft.more["by_hash"] = row.operation.startswith("HASH")
    if row.row_bytes is not None:
        draft.more["row_width_bytes"] = round(row.row_bytes)
    if "columns" in row.more and draft.operation in _SCANS:
        draft.more["output"] = tuple(_projected(row.more["columns"]))


def _alias_of_conditions(draft: Draft, texts: Sequence[str]) -> None:
    """The name by which a table's own conditions call it, where no section tells it."""
    if not draft.more.get("relation") or draft.more.get("alias"):
        return
    named = {found[1] for text in texts for found in _QUALIFIED.finditer(text)}
    if len(named) == 1 and draft.more["relation"] not in named:
        draft.more["alias"] = named.pop()


def _projected(text: str) -> Iterator[str]:
    """The columns of a projection: "R"."VALUE"[NUMBER,22], "R"."UNIT"[VARCHAR2,8]."""
    for part in text.split("],"):
        bare = part.split("[", 1)[0].strip()
        if bare.startswith('"') and "(" not in bare:
            yield noted(bare)[1:-1]


def _roles(draft: Draft, row: Row) -> None:
    """Sub-queries: before the main query of a statement, and behind the input of a filter."""
    plain = [child for child in draft.children if child.role is not Role.SUBPLAN]
    if row.operation.endswith("STATEMENT") and len(plain) > 1:
        for child in plain[:-1]:
            child.role = Role.SUBPLAN
            child.more["subplan_name"] = "sub-query of the list of columns"
    if row.operation == "FILTER" and len(plain) > 1:
        for child in plain[1:]:
            child.role = Role.SUBPLAN
            child.more["subplan_name"] = "sub-query of the filter"


def _with_index(draft: Draft) -> None:
    """Rows fetched by an index: what it led to and the table threw away again."""
    if draft.operation is not Operation.ROW_LOOKUP or len(draft.children) != 1:
        return
    below = draft.children[0]
    if below.operation is not Operation.INDEX_ONLY_SCAN:
        return
    draft.operation = Operation.INDEX_SCAN
    below.operation = Operation.BITMAP_INDEX
    draft.more["index"] = below.more.get("index", "")
    draft.search = list(below.search)
    below.more["alias"] = ""
    if draft.seen is not None and below.seen is not None and below.seen > draft.seen:
        draft.discarded = below.seen - draft.seen


def _join_of_sorts(draft: Draft) -> None:
    """A merge join's condition is printed at the sort of its second input."""
    if draft.operation is not Operation.MERGE_JOIN:
        return
    for child in draft.children:
        if child.operation is Operation.SORT and child.join:
            draft.join += [text for text in child.join if text not in draft.join]
            child.join = []


def _remarks(row: Row) -> Iterator[str]:
    start, stop = row.partitions
    if start:
        told = f"partition {start}" if start == stop else f"partitions {start} to {stop}"
        yield told
    if row.distribution:
        yield f"rows sent to other processes by {row.distribution.lower()}"
    if row.passes:
        yield _PASSES[min(row.passes, 2)]
    if "temporary space expected" in row.more:
        yield f"{row.more['temporary space expected']} of temporary space expected"


def _masked_lines(lines: Sequence[str]) -> Iterator[str]:
    """Without the statement above the plan; no literal of what stands below it."""
    of_statement = of_values = False
    for line in lines:
        if line.startswith(("SQL_ID", display.EXPLAINED)):
            of_statement, of_values = True, False
            yield line
        elif of_statement:
            of_statement = not line.startswith("Plan hash value")
            if not of_statement or set(line.strip()) == {"-"}:
                yield line
        elif line.startswith(_WITHOUT_VALUES):
            of_values = False
            yield line
        elif line.startswith(_WITH_VALUES):
            of_values = True
            yield line
        elif of_values and set(line.strip()) != {"-"}:
            numbered = _NUMBERED.match(line)
            head = numbered[0] if numbered else ""
            yield head + masked_expression(line[len(head) :])
        else:
            yield masked_expression(line) if "'" in line else line
