"""SQL Server's plans: the XML of showplan, estimated or with what happened (2005 to 2022).

By its published schema and the documentation of its operators; not tried on a real server. Costs
are of a step with all below it over all of its executions, rows are expected of one execution and
counted over all of them. Times of steps are there from 2014 (service pack 2) and 2016 on.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from xml.etree.ElementTree import Element, tostring

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.plans.model import Memory, Operation, Plan, Processes
from humble_ledger.core.saying import percent
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.masking import masked as without_literals
from humble_ledger.core.symptoms.case import Rule
from humble_ledger.engines.contract import Reading, SavedPlan
from humble_ledger.engines.elsewhere.drafts import Draft, assembled, inputs
from humble_ledger.engines.elsewhere.sqlserver import warnings as told_by
from humble_ledger.engines.elsewhere.sqlserver.counters import Counters, counters
from humble_ledger.engines.elsewhere.sqlserver.notation import column, noted
from humble_ledger.engines.elsewhere.sqlserver.operators import about, join_type, label, operation
from humble_ledger.engines.elsewhere.sqlserver.xml import (
    SAVING,
    bare,
    below,
    child,
    children,
    document_root,
    figure,
    flag,
    tag,
    within,
)
from humble_ledger.errors import UnreadableInput

ENGINE = "sqlserver"
KIB = 1024
SKEWED = 1.5  # times its fair part of the rows
_JOINS = (Operation.NESTED_LOOP, Operation.HASH_JOIN, Operation.MERGE_JOIN)
_SIGNS = {"EQ": "=", "GE": ">=", "GT": ">", "LE": "<=", "LT": "<", "NE": "<>",
          "IS": "=", "IS NULL": "IS", "BINARY IS": "="}  # fmt: skip
_MASKED = ("ScalarString", "ConstValue", "StatementText", "ParameterCompiledValue",
           "ParameterRuntimeValue", "Expression", "ParameterizedText")  # fmt: skip
_PLACED = frozenset(
    """NodeId PhysicalOp LogicalOp EstimateRows EstimatedTotalSubtreeCost AvgRowSize Parallel
    EstimateRebinds EstimateRewinds""".split()
)
_STATEMENT_PLACED = frozenset(
    "StatementText StatementSubTreeCost StatementEstRows StatementId StatementCompId".split()
)


class SqlserverPlans(Reading):
    """Plans of SQL Server."""

    engine = ENGINE
    rests_on = (
        "the published schema of showplan and the documentation of its operators; "
        "not tried on a real server"
    )
    dialect = Dialect(default_schema="dbo", methods=frozenset((IndexMethod.SORTED,)))

    @property
    def rules(self) -> Sequence[Rule]:  # type: ignore[override]
        """What a plan shows by itself, and what the server warns of."""
        from humble_ledger.engines.elsewhere.findings import RULES  # noqa: PLC0415
        from humble_ledger.engines.elsewhere.sqlserver.findings import OWN_RULES  # noqa: PLC0415

        return (*OWN_RULES, *RULES)

    def looks_like(self, text: str) -> bool:
        """Whether a text has the root element of such a plan."""
        return "<ShowPlanXML" in text[:20_000]

    def plans_in(self, document: object) -> Sequence[SavedPlan]:
        """The plan of each statement that has one."""
        root = document_root(str(document))
        version = root.get("Build") or ""
        found = [
            SavedPlan(_plan(statement, version), statement.get("StatementText", "").strip())
            for statement in _statements(root)
        ]
        if not found:
            raise UnreadableInput(
                "There is no plan in this document: none of its statements has a RelOp.", SAVING
            )
        return found

    def masked(self, document: object) -> object:
        """The document without literals in its texts and without the values of parameters."""
        root = document_root(str(document))
        for element in root.iter():
            for name in _MASKED:
                if name in element.attrib:
                    element.attrib[name] = without_literals(element.attrib[name])
        return tostring(root, encoding="unicode")


def _statements(root: Element) -> Iterator[Element]:
    """The elements of statements whose own plan has steps, in their order."""
    for element in root.iter():
        plan = child(element, "QueryPlan")
        if plan is not None and child(plan, "RelOp") is not None:
            yield element


def _plan(statement: Element, version: str) -> Plan:
    plan = child(statement, "QueryPlan")
    top = child(plan, "RelOp")
    assert plan is not None and top is not None  # see _statements
    reader = _Steps()
    root = reader.draft(top)
    measured = any(counters(relop) is not None for relop in within(plan, "RelOp"))
    _inclusive(root)
    times = child(plan, "QueryTimeStats")
    took = figure(times, "ElapsedTime")
    details: dict[str, object] = {
        name: value for name, value in statement.attrib.items() if name not in _STATEMENT_PLACED
    }
    details |= dict(plan.attrib)
    used = list(told_by.statistics_used(plan))
    if used:
        details["statistics used"] = used
    if times is not None:
        details |= {f"QueryTimeStats {name}": value for name, value in times.attrib.items()}
    compiled = figure(plan, "CompileTime")
    return Plan(
        ENGINE,
        version,
        assembled(root, measured=measured),
        measured,
        planning_ms=compiled,
        execution_ms=took if took is not None else (root.ms if measured else None),
        details=details,
        remarks=tuple(told_by.of_plan(plan)),
        advice=tuple(told_by.advice(plan)),
    )


def _inclusive(root: Draft) -> None:
    """Times of steps that worked in batches, which are their own, with those below them.

    Between processes an exchange may tell less than what it waited for: it took no less.
    """
    for draft in reversed(list(root.walk())):
        if draft.details.pop("batch", False) and draft.ms is not None:
            draft.own_ms, draft.ms = draft.ms, None
            draft.ms = (draft.own_ms or 0.0) + sum(c.ms or 0.0 for c in draft.children)


@dataclass(slots=True)
class _Steps:
    """Steps to drafts; deep trees are walked without recursion."""

    def draft(self, top: Element) -> Draft:
        """The steps from one on."""
        order, inner = [], dict[int, list[Element]]()
        waiting = [top]
        while waiting:
            one = waiting.pop()
            order.append(one)
            inner[id(one)] = list(_steps_below(one))
            waiting += reversed(inner[id(one)])
        made: dict[int, Draft] = {}
        for relop in reversed(order):
            made[id(relop)] = _one(relop, [made[id(each)] for each in inner[id(relop)]])
        return made[id(top)]


def _steps_below(relop: Element) -> Iterator[Element]:
    """The steps right below one, in their order."""
    waiting = list(reversed(list(relop)))
    while waiting:
        one = waiting.pop()
        if tag(one) == "RelOp":
            yield one
        else:
            waiting += reversed(list(one))


def _one(relop: Element, steps: list[Draft]) -> Draft:
    kind = about(relop)
    what = operation(relop, kind)
    draft = Draft(
        what,
        label(relop),
        steps,
        rows=figure(relop, "EstimateRows"),
        rows_read=figure(relop, "EstimatedRowsRead"),
        whole_cost=figure(relop, "EstimatedTotalSubtreeCost"),
    )
    inputs(draft)
    _object(draft, kind)
    _conditions(draft, relop, kind)
    _keys(draft, relop, kind)
    draft.more["output"] = tuple(
        column(each) for each in children(child(relop, "OutputList"), "ColumnReference")
    )
    width = figure(relop, "AvgRowSize")
    draft.more["row_width_bytes"] = None if width is None else round(width)
    warned = child(relop, "Warnings")
    draft.remarks += told_by.remarks(warned)
    draft.details |= {k: v for k, v in relop.attrib.items() if k not in _PLACED}
    draft.details["NodeId"] = relop.get("NodeId", "")
    _ran(draft, counters(relop), warned, relop)
    return draft


def _ran(draft: Draft, found: Counters | None, warned: Element | None, relop: Element) -> None:
    if told_by.spilled(warned):
        used = told_by.granted_bytes(warned)
        draft.memory = Memory("", used, told_by.spilled_bytes(warned) or 1)
    if found is None:
        return
    draft.loops, draft.seen, draft.ms = found.executions, found.rows, found.ms
    draft.own_pages = found.pages
    draft.details["batch"] = found.batch
    if found.rows_read is not None and found.rows_read > found.rows:
        draft.discarded = found.rows_read - found.rows
    if found.processor_ms is not None:
        draft.details["ActualCPUms"] = found.processor_ms
    if found.each:
        # No thread of these gathers, so that none is a worker of another.
        draft.more["processes"] = Processes(0, 0, found.each)
        busiest = max(each.rows * each.loops for each in found.each)
        if found.rows and busiest * found.threads >= SKEWED * found.rows:
            draft.remarks.append(
                f"skewed: one of {found.threads} threads had {percent(busiest / found.rows)} of "
                "the rows"
            )
    if draft.operation is Operation.GATHER:
        below_it = draft.children[0].more.get("processes") if draft.children else None
        if isinstance(below_it, Processes):
            threads = len(below_it.each)
            draft.more["processes"] = Processes(threads, threads)


def _object(draft: Draft, kind: Element | None) -> None:
    found = child(kind, "Object")
    if found is None:
        return
    draft.more |= {
        "schema": bare(found.get("Schema")),
        "relation": bare(found.get("Table")),
        "alias": bare(found.get("Alias")),
    }
    if draft.operation not in (Operation.FULL_SCAN, Operation.MODIFY):
        draft.more["index"] = bare(found.get("Index"))
    elif found.get("Index"):
        draft.details["Index"] = bare(found.get("Index"))
    if found.get("Storage") == "ColumnStore":
        draft.remarks.append("columnstore")
    for name, words in (("ForcedIndex", "index forced by a hint"), ("ForceScan", "scan forced")):
        if flag(kind, name):
            draft.remarks.append(words)


def _conditions(draft: Draft, relop: Element, kind: Element | None) -> None:
    for seek in within(child(kind, "SeekPredicates"), "SeekKeys", but="RelOp"):
        for part in seek:
            draft.search += _seek(part)
    # Older versions write the same without the grouping.
    for seek in within(child(kind, "SeekPredicates"), "SeekPredicate", but="RelOp"):
        for part in seek:
            draft.search += _seek(part)
    for name, into in (
        ("Predicate", draft.join if draft.operation in _JOINS else draft.filter),
        ("ProbeResidual", draft.filter),
        ("Residual", draft.filter),
        ("BuildResidual", draft.filter),
        ("SetPredicate", draft.filter),
    ):
        for predicate in children(kind, name):
            scalar = child(predicate, "ScalarOperator")
            text = noted(scalar.get("ScalarString", "")) if scalar is not None else ""
            if text:
                into.append(text)
    _equal_columns(draft, kind)
    if draft.operation is Operation.NESTED_LOOP:
        outer = [
            column(each) for each in children(child(kind, "OuterReferences"), "ColumnReference")
        ]
        if outer:
            draft.details["OuterReferences"] = ", ".join(outer)


def _equal_columns(draft: Draft, kind: Element | None) -> None:
    """The columns by which a hash or a merge joins, one with one."""
    for left, right in (
        ("HashKeysBuild", "HashKeysProbe"),
        ("OuterSideJoinColumns", "InnerSideJoinColumns"),
    ):
        ours = [column(each) for each in children(child(kind, left), "ColumnReference")]
        theirs = [column(each) for each in children(child(kind, right), "ColumnReference")]
        for one, other in zip(ours, theirs, strict=False):
            text = f"({one} = {other})"
            # The residual tells the same once more.
            draft.filter = [each for each in draft.filter if not _same_pair(each, one, other)]
            draft.join.append(text)


def _same_pair(text: str, one: str, other: str) -> bool:
    inner = text.strip("()").replace(" ", "")
    return inner in (f"{one}={other}", f"{other}={one}")


def _seek(part: Element) -> Iterator[str]:
    """One bound of a search: columns compared with expressions."""
    sign = _SIGNS.get(part.get("ScanType", "EQ"), "=")
    columns = children(child(part, "RangeColumns"), "ColumnReference")
    values = children(child(part, "RangeExpressions"), "ScalarOperator")
    if tag(part) == "IsNotNull":
        yield from (f"({column(each)} IS NOT NULL)" for each in children(part, "ColumnReference"))
    for each, value in zip(columns, values, strict=False):
        right = noted(value.get("ScalarString", ""))
        inner = right[1:-1] if right.startswith("(") and right.endswith(")") else right
        yield f"({column(each)} {sign} {inner})"


def _keys(draft: Draft, relop: Element, kind: Element | None) -> None:
    if draft.operation in _JOINS:
        draft.more["join_type"] = join_type(relop)
    if draft.operation is Operation.SORT:
        keys = []
        for each in children(child(kind, "OrderBy"), "OrderByColumn"):
            reference = child(each, "ColumnReference")
            if reference is not None:
                keys.append(column(reference) + ("" if flag(each, "Ascending") else " DESC"))
        draft.more["sort_keys"] = tuple(keys)
        rows = figure(kind, "Rows")
        if rows is not None:
            draft.remarks.append(f"keeps the first {rows:,.0f}")
    if draft.operation in (Operation.AGGREGATE, Operation.DISTINCT):
        groups = child(kind, "GroupBy")
        groups = groups if groups is not None else child(kind, "HashKeysBuild")
        draft.more["group_keys"] = tuple(column(c) for c in children(groups, "ColumnReference"))
        draft.more["by_hash"] = relop.get("PhysicalOp") == "Hash Match"
    top = below(kind, "TopExpression", "ScalarOperator")
    if top is not None:
        draft.remarks.append(f"top {top.get('ScalarString', '').strip('()')}")
