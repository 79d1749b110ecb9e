"""The open plan document: a plan as JSON that other programs can read, and can write for us.

Described in docs/formats/plan.md. It has every field of the model, and beside them figures that
are computed from these (what a step takes by itself, over all loops); on reading those are not
believed but computed anew. What a reader does not know is kept among the server's own words.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import count
from math import isfinite
from typing import Any, Literal, TypeVar

import msgspec
from msgspec import Struct, field

from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.limits import MOST_DEPTH, MOST_STEPS
from humble_ledger.core.plans.model import (
    Conditions,
    Cost,
    Discarded,
    Elapsed,
    IndexAdvice,
    Memory,
    Node,
    Operation,
    Pages,
    Plan,
    Processes,
    Role,
    Trigger,
    Visits,
    Worker,
)

KIND = "plan"
VERSION = 2

T = TypeVar("T")


class CostFigures(Struct, frozen=True, rename={"self_": "self"}):
    """The server's estimate: by the step itself, with all below it, and until its first row."""

    self_: float | None = None
    total: float | None = None
    startup: float | None = None


class TimeFigures(Struct, frozen=True, rename={"self_": "self"}):
    """Measured milliseconds over all loops: by the step itself, and with all below it."""

    self_: float | None = None
    total: float | None = None


class LoopTime(Struct, frozen=True):
    """Measured milliseconds of one loop with all below it, and until its first row."""

    startup: float
    total: float


class PageCounts(Struct, frozen=True):
    """Pages over all loops; temporary ones apart."""

    cached: int = 0
    read: int = 0
    written: int = 0
    temp_read: int = 0
    temp_written: int = 0
    dirtied: int = 0


class ConditionLists(Struct, frozen=True):
    """The conditions of a step, in the notation of docs/formats/plan.md."""

    search: list[str] = field(default_factory=list)
    filter: list[str] = field(default_factory=list)
    join: list[str] = field(default_factory=list)
    recheck: list[str] = field(default_factory=list)


class DiscardedCounts(Struct, frozen=True):
    """Rows thrown away per loop, by what threw them away."""

    by_filter: float | None = None
    by_join: float | None = None
    by_recheck: float | None = None


class WorkerCounts(Struct, frozen=True):
    """What one parallel worker did; rows and milliseconds per loop."""

    rows: float = 0.0
    loops: float = 0.0
    total_ms: float = 0.0


class ProcessCounts(Struct, frozen=True):
    """Parallel processes: how many were planned and launched, and what each did."""

    planned: int
    launched: int | None = None
    each: list[WorkerCounts] = field(default_factory=list)


class MemoryUse(Struct, frozen=True):
    """Memory of a sort, hash or cache."""

    method: str = ""
    used_bytes: int | None = None
    spilled_bytes: int = 0
    batches: int | None = None
    planned_batches: int | None = None


class VisitCounts(Struct, frozen=True):
    """What a step met beside its rows."""

    table_rows: float = 0.0
    exact_pages: float = 0.0
    lossy_pages: float = 0.0
    cache_hits: float = 0.0
    cache_misses: float = 0.0
    pruned: float = 0.0


class NodeDocument(Struct, frozen=True, kw_only=True):
    """One step of a plan. Rows are per loop, as servers give them."""

    no: int = 0
    operation: str = Operation.OTHER.value
    label: str = ""
    relation: str = ""
    alias: str = ""
    whole_alias: str = ""
    index: str = ""
    rows_expected: float | None = None
    rows_seen: float | None = None
    loops: float | None = None
    rows_discarded: float | None = None
    cost: CostFigures = CostFigures()
    time_ms: TimeFigures = TimeFigures()
    process_time_ms: float | None = None
    share: float = 0.0
    pages: PageCounts | None = None
    conditions: ConditionLists = field(default_factory=ConditionLists)
    sort_keys: list[str] = field(default_factory=list)
    processes: ProcessCounts | None = None
    memory: MemoryUse | None = None
    children: list[NodeDocument] = field(default_factory=list)
    role: str = Role.OUTER.value
    schema: str = ""
    subplan: str = ""
    join_type: str = ""
    cte: str = ""
    row_bytes: int | None = None
    loop_ms: LoopTime | None = None
    discarded: DiscardedCounts = DiscardedCounts()
    pages_with_inputs: PageCounts | None = None
    presorted_keys: list[str] = field(default_factory=list)
    group_keys: list[str] = field(default_factory=list)
    output: list[str] = field(default_factory=list)
    visits: VisitCounts = VisitCounts()
    parallel_aware: bool = False
    by_hash: bool = False
    disabled: bool = False
    share_unknown: bool = False
    own_words: dict[str, Any] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)


class EngineName(Struct, frozen=True):
    """Which server."""

    name: str
    version: str = ""


class TriggerRow(Struct, frozen=True):
    """A trigger or constraint that ran."""

    name: str
    calls: float
    time_ms: float | None = None


class AdviceRow(Struct, frozen=True, kw_only=True):
    """An index that the server itself suggests; ``gain_share`` is what it says to be saved."""

    relation: str
    schema: str = ""
    equal: list[str] = field(default_factory=list)
    ranges: list[str] = field(default_factory=list)
    included: list[str] = field(default_factory=list)
    gain_share: float | None = None
    statement: str = ""


class OpenPlan(Struct, frozen=True, kw_only=True):
    """What a plan document must have and may have; more is in it where a ledger wrote it."""

    engine: EngineName
    root: NodeDocument
    measured: bool = False
    planning_ms: float | None = None
    execution_ms: float | None = None
    compile_ms: float | None = None
    settings: dict[str, str] = field(default_factory=dict)
    triggers: list[TriggerRow] = field(default_factory=list)
    own_estimates: bool = False
    own_words: dict[str, Any] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    advice: list[AdviceRow] = field(default_factory=list)
    statement: str = ""
    kind: Literal["plan"] = "plan"
    version: int = 2


def step_document(node: Node, figures: Mapping[int, StepMetrics]) -> NodeDocument:
    """A step with all below it, and with what was computed of each."""
    account = figures[node.no]
    measured = node.rows_seen is not None
    return NodeDocument(
        no=node.no,
        operation=node.operation.value,
        label=node.label,
        relation=node.relation,
        alias=node.alias,
        whole_alias=node.whole_alias,
        index=node.index,
        rows_expected=node.rows_expected,
        rows_seen=node.rows_seen,
        loops=node.loops,
        rows_discarded=node.discarded.total if measured else None,
        cost=CostFigures(
            round(account.self_cost, 4) if node.cost else None,
            node.cost.total if node.cost else None,
            node.cost.startup if node.cost else None,
        ),
        time_ms=TimeFigures(_rounded(account.self_ms), _rounded(account.total_ms)),
        process_time_ms=_rounded(account.process_ms),
        share=round(account.self_share, 6),
        pages=_pages(account.self_pages),
        conditions=ConditionLists(
            list(node.conditions.search),
            list(node.conditions.filter),
            list(node.conditions.join),
            list(node.conditions.recheck),
        ),
        sort_keys=list(node.sort_keys),
        processes=_processes(node),
        memory=_like(node.memory, MemoryUse) if node.memory is not None else None,
        children=[step_document(child, figures) for child in node.children],
        role=node.role.value,
        schema=node.schema,
        subplan=node.subplan_name,
        join_type=node.join_type,
        cte=node.cte_name,
        row_bytes=node.row_width_bytes,
        loop_ms=LoopTime(node.elapsed.startup_ms, node.elapsed.total_ms) if node.elapsed else None,
        discarded=_like(node.discarded, DiscardedCounts),
        pages_with_inputs=_pages(node.pages),
        presorted_keys=list(node.presorted_keys),
        group_keys=list(node.group_keys),
        output=list(node.output),
        visits=_like(node.visits, VisitCounts),
        parallel_aware=node.parallel_aware,
        by_hash=node.by_hash,
        disabled=node.disabled,
        share_unknown=node.share_unknown,
        own_words=node.details,
        remarks=list(node.remarks),
    )


def document_of(plan: Plan, statement: str = "") -> OpenPlan:
    """A plan as an open document."""
    return OpenPlan(
        engine=EngineName(plan.engine, plan.engine_version),
        root=step_document(plan.root, accounts(plan)),
        measured=plan.measured,
        planning_ms=plan.planning_ms,
        execution_ms=plan.execution_ms,
        compile_ms=plan.compile_ms,
        settings=dict(plan.engine_settings),
        triggers=triggers_of(plan),
        own_estimates=plan.own_estimates,
        own_words=plan.details,
        remarks=list(plan.remarks),
        advice=advice_of(plan),
        statement=statement,
    )


def triggers_of(plan: Plan) -> list[TriggerRow]:
    """The triggers that ran."""
    return [TriggerRow(each.name, each.calls, each.time_ms) for each in plan.triggers]


def advice_of(plan: Plan) -> list[AdviceRow]:
    """What the server itself suggests."""
    return [_like(each, AdviceRow) for each in plan.advice]


def looks_open(found: object) -> bool:
    """Whether a decoded JSON document says that it is such a plan."""
    return isinstance(found, Mapping) and found.get("kind") == KIND and "root" in found


def plan_in(document: object) -> Plan:
    """The plan in a decoded document.

    Raises:
        ValueError: it is no such document; tells the place, as ``$.root.children[1].loops``.
    """
    if not isinstance(document, Mapping):
        raise ValueError("an object was expected at the top")
    version = document.get("version", VERSION)
    if not isinstance(version, int) or not 1 <= version <= VERSION:
        raise ValueError(f"version {version!r} is not known; versions up to {VERSION} are")
    if "root" not in document or "engine" not in document:
        raise ValueError('it should have "engine" and "root"')
    found = _converted(document, OpenPlan, "$")
    return Plan(
        found.engine.name,
        found.engine.version,
        _node(document["root"], found.root, count(1), "$.root", 0),
        found.measured,
        planning_ms=found.planning_ms,
        execution_ms=found.execution_ms,
        engine_settings=found.settings,
        triggers=tuple(Trigger(t.name, t.calls, t.time_ms) for t in found.triggers),
        compile_ms=found.compile_ms,
        own_estimates=found.own_estimates,
        details=_words(document, found, _OF_LEDGER),
        remarks=tuple(found.remarks),
        advice=tuple(_like(each, IndexAdvice) for each in found.advice),
    )


def statement_in(document: object) -> str:
    """The statement of a document; "" where it tells none."""
    found = document.get("statement") if isinstance(document, Mapping) else None
    return found if isinstance(found, str) else ""


# What the program writes around a plan: it is no word of the server.
_OF_LEDGER = frozenset(
    """kind version id query cost_total planner_calls tables joins work values_chosen statement
    parameters""".split()
)


def _converted(document: Mapping[str, Any], wanted: type[T], place: str) -> T:
    try:
        return msgspec.convert(document, wanted)
    except msgspec.ValidationError as error:
        raise ValueError(str(error).replace("`$", f"`{place}")) from error
    except RecursionError as error:
        raise ValueError("its steps are nested too deeply") from error


def _node(raw: Any, found: NodeDocument, numbers: Iterator[int], place: str, depth: int) -> Node:
    if depth > MOST_DEPTH:
        raise ValueError(f"more than {MOST_DEPTH} steps below each other, at `{place[:60]}…`")
    number = next(numbers)
    if number > MOST_STEPS:
        raise ValueError(f"more than {MOST_STEPS:,} steps")
    known, words = set(Operation), _words(raw, found, frozenset())
    operation = Operation(found.operation) if found.operation in known else Operation.OTHER
    if operation is Operation.OTHER and found.operation != Operation.OTHER.value:
        words = {"operation": found.operation, **words}
    if found.role not in set(Role):
        raise ValueError(f"{found.role!r} is no role - at `{place}.role`")
    _require_figures(found, place)
    cost = found.cost
    return Node(
        number,
        operation,
        found.label or found.operation.replace("_", " "),
        role=Role(found.role),
        schema=found.schema,
        relation=found.relation,
        alias=found.alias,
        whole_alias=found.whole_alias,
        index=found.index,
        subplan_name=found.subplan,
        join_type=found.join_type,
        cost=None if cost.total is None else Cost(cost.startup or 0.0, cost.total),
        rows_expected=found.rows_expected,
        row_width_bytes=found.row_bytes,
        rows_seen=found.rows_seen,
        loops=found.loops,
        elapsed=Elapsed(found.loop_ms.startup, found.loop_ms.total) if found.loop_ms else None,
        discarded=_like(found.discarded, Discarded),
        pages=_like(found.pages_with_inputs, Pages) if found.pages_with_inputs else None,
        conditions=Conditions(
            tuple(found.conditions.search),
            tuple(found.conditions.filter),
            tuple(found.conditions.join),
            tuple(found.conditions.recheck),
        ),
        sort_keys=tuple(found.sort_keys),
        presorted_keys=tuple(found.presorted_keys),
        group_keys=tuple(found.group_keys),
        output=tuple(found.output),
        processes=None
        if found.processes is None
        else Processes(
            found.processes.planned,
            found.processes.launched,
            tuple(_like(each, Worker) for each in found.processes.each),
        ),
        memory=_like(found.memory, Memory) if found.memory is not None else None,
        parallel_aware=found.parallel_aware,
        by_hash=found.by_hash,
        disabled=found.disabled,
        cte_name=found.cte,
        share_unknown=found.share_unknown,
        visits=_like(found.visits, Visits),
        details=words,
        remarks=tuple(found.remarks),
        children=tuple(
            _node(raw["children"][place_], child, numbers, f"{place}.children[{place_}]", depth + 1)
            for place_, child in enumerate(found.children)
        ),
    )


def _require_figures(found: NodeDocument, place: str) -> None:
    """Counts, times and costs are none below nought, and none without end."""
    figures = {
        "rows_expected": found.rows_expected,
        "rows_seen": found.rows_seen,
        "loops": found.loops,
        "cost.total": found.cost.total,
        "loop_ms.total": found.loop_ms.total if found.loop_ms else None,
    }
    for name, figure in figures.items():
        if figure is not None and not (isfinite(figure) and figure >= 0):
            raise ValueError(f"{figure} is no such figure - at `{place}.{name}`")


def _words(raw: Mapping[str, Any], found: Struct, apart: frozenset[str]) -> dict[str, Any]:
    """The server's own words, and whatever else the document has that nobody here knows."""
    known = {*(f.encode_name for f in msgspec.structs.fields(found)), *apart}
    unknown = {str(key): value for key, value in raw.items() if key not in known}
    return {**getattr(found, "own_words", {}), **unknown}


def _like(one: Any, wanted: type[T]) -> T:
    """The same figures in another class that has them by the same names."""
    return msgspec.convert(one, wanted, from_attributes=True)


def _pages(found: Pages | None) -> PageCounts | None:
    return None if found is None else _like(found, PageCounts)


def _processes(node: Node) -> ProcessCounts | None:
    found = node.processes
    if found is None:
        return None
    each = [WorkerCounts(one.rows, one.loops, one.total_ms) for one in found.each]
    return ProcessCounts(found.planned, found.launched, each)


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 4)
