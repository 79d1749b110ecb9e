"""A plan as every engine hands it over: one neutral tree, the server's own words beside it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from enum import StrEnum


class Operation(StrEnum):
    """Neutral words for what a step does, so that the plans of all servers compare."""

    FULL_SCAN = "full_scan"
    INDEX_SCAN = "index_scan"
    INDEX_ONLY_SCAN = "index_only_scan"
    BITMAP_SCAN = "bitmap_scan"
    BITMAP_INDEX = "bitmap_index"
    ROW_LOOKUP = "row_lookup"
    FUNCTION_SCAN = "function_scan"
    VALUES = "values"
    NESTED_LOOP = "nested_loop"
    HASH_JOIN = "hash_join"
    MERGE_JOIN = "merge_join"
    HASH = "hash"
    SORT = "sort"
    INCREMENTAL_SORT = "incremental_sort"
    AGGREGATE = "aggregate"
    GROUP = "group"
    DISTINCT = "distinct"
    WINDOW = "window"
    LIMIT = "limit"
    APPEND = "append"
    MATERIALIZE = "materialize"
    MEMOIZE = "memoize"
    CTE = "cte"
    SUBQUERY = "subquery"
    SET_OPERATION = "set_operation"
    GATHER = "gather"
    LOCK_ROWS = "lock_rows"
    MODIFY = "modify"
    RESULT = "result"
    OTHER = "other"


class Role(StrEnum):
    """How a step serves its parent."""

    OUTER = "outer"
    INNER = "inner"
    MEMBER = "member"  # one of many inputs, as below an append
    SUBPLAN = "subplan"  # run by the parent, perhaps once per row
    INIT_PLAN = "init-plan"  # run once, when somebody first needs its value
    CTE = "cte"  # run when somebody reads it


BESIDE = frozenset((Role.SUBPLAN, Role.INIT_PLAN, Role.CTE))  # they give a value, or are read later
SCANS = frozenset(
    (
        Operation.FULL_SCAN,
        Operation.INDEX_SCAN,
        Operation.INDEX_ONLY_SCAN,
        Operation.BITMAP_SCAN,
        Operation.ROW_LOOKUP,
    )
)
JOINS = frozenset((Operation.NESTED_LOOP, Operation.HASH_JOIN, Operation.MERGE_JOIN))
SORTS = frozenset((Operation.SORT, Operation.INCREMENTAL_SORT))


@dataclass(frozen=True, slots=True)
class Cost:
    """The server's estimate for a step with all below it, in its own units."""

    startup: float
    total: float


@dataclass(frozen=True, slots=True)
class Elapsed:
    """Measured time of one loop of a step with all below it, in milliseconds."""

    startup_ms: float
    total_ms: float


@dataclass(frozen=True, slots=True)
class Pages:
    """Pages touched by a step and all below it, over all loops (PostgreSQL: of 8 KiB)."""

    cached: int = 0
    read: int = 0
    dirtied: int = 0
    written: int = 0
    temp_read: int = 0
    temp_written: int = 0

    @property
    def touched(self) -> int:
        """Pages that had to be looked at, from the cache or not; temporary ones apart."""
        return self.cached + self.read


@dataclass(frozen=True, slots=True)
class Conditions:
    """The conditions of a step, as the server prints them.

    ``search`` leads into an index, ``filter`` throws rows away after they were read,
    ``join`` ties two inputs, ``recheck`` repeats a condition on rows of a coarse index.
    """

    search: tuple[str, ...] = ()
    filter: tuple[str, ...] = ()
    join: tuple[str, ...] = ()
    recheck: tuple[str, ...] = ()

    def all(self) -> tuple[str, ...]:
        """Every condition of the step."""
        return self.search + self.filter + self.join + self.recheck


@dataclass(frozen=True, slots=True)
class Discarded:
    """Rows thrown away per loop, by what threw them away; None where not measured."""

    by_filter: float | None = None
    by_join: float | None = None
    by_recheck: float | None = None

    @property
    def total(self) -> float:
        """All of them, rows per loop."""
        return sum(part or 0.0 for part in (self.by_filter, self.by_join, self.by_recheck))


@dataclass(frozen=True, slots=True)
class Worker:
    """What one of several processes did at a step: rows and milliseconds per loop, and loops."""

    rows: float = 0.0
    loops: float = 0.0
    total_ms: float = 0.0


@dataclass(frozen=True, slots=True)
class Processes:
    """Parallel workers: how many were planned and launched, and what each did, if told."""

    planned: int
    launched: int | None = None
    each: tuple[Worker, ...] = ()


@dataclass(frozen=True, slots=True)
class Visits:
    """What a step met beside its rows, over all its loops or per loop as the server tells it.

    ``table_rows`` were fetched from the table by a scan that needs the index only,
    ``exact_pages`` and ``lossy_pages`` are those a bitmap noted row by row and as a whole,
    ``cache_hits`` and ``cache_misses`` are lookups answered from memory and not, ``pruned``
    counts inputs that were ruled out before it began. 0 where the server tells none.
    """

    table_rows: float = 0.0
    exact_pages: float = 0.0
    lossy_pages: float = 0.0
    cache_hits: float = 0.0
    cache_misses: float = 0.0
    pruned: float = 0.0


@dataclass(frozen=True, slots=True)
class Memory:
    """Memory of a sort, hash or cache: bytes in memory, bytes spilled to disk, passes."""

    method: str = ""
    used_bytes: int | None = None
    spilled_bytes: int = 0
    batches: int | None = None
    planned_batches: int | None = None


@dataclass(frozen=True, slots=True)
class Node:
    """One step of a plan.

    ``no`` numbers the steps in the order of the plan's text, from 1. ``rows_expected`` and
    ``rows_seen`` are per loop; ``loops`` counts over all processes; both are None when the
    plan was not measured, and ``loops`` is 0 when the step never ran. ``by_hash`` tells that it
    groups by a hash table, ``share_unknown`` that the planner knew nothing of its conditions and
    took every row to pass, ``disabled`` that it uses a method which a setting forbids;
    ``cte_name`` is the common table expression that it reads; ``whole_alias`` is what steps above
    call the partitioned table of which it reads a part ("": its own alias). ``rows_skipped`` are
    those that OFFSET passes over, where the server tells how many. ``details`` keeps whatever else
    the server said, under its own names; nothing is computed from those. ``remarks`` are what the
    server itself has to say about the step, in its words, for people.
    """

    no: int
    operation: Operation
    label: str
    role: Role = Role.OUTER
    schema: str = ""
    relation: str = ""
    alias: str = ""
    index: str = ""
    subplan_name: str = ""
    join_type: str = ""
    cost: Cost | None = None
    rows_expected: float | None = None
    row_width_bytes: int | None = None
    rows_seen: float | None = None
    loops: float | None = None
    elapsed: Elapsed | None = None
    discarded: Discarded = field(default=Discarded())
    pages: Pages | None = None
    conditions: Conditions = field(default=Conditions())
    sort_keys: tuple[str, ...] = ()
    presorted_keys: tuple[str, ...] = ()
    group_keys: tuple[str, ...] = ()
    output: tuple[str, ...] = ()
    processes: Processes | None = None
    memory: Memory | None = None
    parallel_aware: bool = False
    by_hash: bool = False
    disabled: bool = False
    cte_name: str = ""
    share_unknown: bool = False
    whole_alias: str = ""
    rows_skipped: float = 0.0
    visits: Visits = field(default=Visits())
    details: dict[str, object] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()
    children: tuple[Node, ...] = ()

    @property
    def never_ran(self) -> bool:
        """Whether the plan was measured and this step had no turn (which is not "no rows")."""
        return self.loops == 0

    @property
    def inputs(self) -> tuple[Node, ...]:
        """The steps whose rows it takes in: not those that only give it a value."""
        return tuple(child for child in self.children if child.role not in BESIDE)

    def walk(self) -> Iterator[Node]:
        """This step and all below it, in the order of the plan's text."""
        waiting = [self]
        while waiting:
            node = waiting.pop()
            yield node
            waiting.extend(reversed(node.children))

    @property
    def name(self) -> str:
        """The step in a few words: "Index Scan on alert by alert_raised"."""
        words = self.label
        if self.relation:
            words += f" on {self.relation}"
            if self.alias and self.alias != self.relation:
                words += f" {self.alias}"
        elif self.alias:
            words += f" {self.alias}"
        if self.index:
            words += f" by {self.index}"
        return words


@dataclass(frozen=True, slots=True)
class Trigger:
    """A trigger or constraint that ran: its name, calls, and milliseconds in all."""

    name: str
    calls: float
    time_ms: float | None


@dataclass(frozen=True, slots=True)
class IndexAdvice:
    """An index that the server itself suggests in a plan: not ours, and not tried.

    ``equal`` are columns compared for equality, ``ranges`` otherwise, ``included`` those that
    it should hold beside; ``gain_share`` is the part of the cost that the server says it would
    save, from 0 to 1; ``statement`` is its own text, "" where it gives none.
    """

    relation: str
    schema: str = ""
    equal: tuple[str, ...] = ()
    ranges: tuple[str, ...] = ()
    included: tuple[str, ...] = ()
    gain_share: float | None = None
    statement: str = ""


@dataclass(frozen=True, slots=True)
class Plan:
    """The plan of one statement, with what surrounds it.

    ``engine_settings`` are the planner settings that differ from the server's defaults.
    ``own_estimates`` tells that the server shows no costs, and ours are given. ``remarks`` are
    what the server says of the plan as a whole, in its words; ``advice`` what it suggests.
    """

    engine: str
    engine_version: str
    root: Node
    measured: bool
    planning_ms: float | None = None
    execution_ms: float | None = None
    engine_settings: dict[str, str] = field(default_factory=dict)
    triggers: tuple[Trigger, ...] = ()
    compile_ms: float | None = None
    own_estimates: bool = False
    details: dict[str, object] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()
    advice: tuple[IndexAdvice, ...] = ()

    @property
    def cost_total(self) -> float | None:
        """The server's estimated cost of the whole plan."""
        return self.root.cost.total if self.root.cost else None

    @property
    def steps_measured(self) -> bool:
        """Whether each step was timed, and not just the whole: some servers tell no more."""
        return self.measured and all(node.loops is not None for node in self.root.children)

    @property
    def steps_timed(self) -> bool:
        """Whether each step tells its time: some servers count rows and time nothing."""
        return self.steps_measured and (self.root.elapsed is not None or self.root.never_ran)

    def nodes(self) -> Iterator[Node]:
        """Every step in the order of the plan's text."""
        return self.root.walk()

    def node(self, number: int) -> Node:
        """The step with this number.

        Raises:
            KeyError: there is none.
        """
        for node in self.nodes():
            if node.no == number:
                return node
        raise KeyError(number)

    def uses_index(self, name: str) -> bool:
        """Whether any step reads this index."""
        return any(node.index == name for node in self.nodes())

    def relations(self) -> set[tuple[str, str]]:
        """The (schema, table) pairs the plan reads or writes."""
        return {(n.schema, n.relation) for n in self.nodes() if n.relation}
