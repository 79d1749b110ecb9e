"""`grow`: the cost of each query while tables grow, and where its plan flips."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.plans.model import Plan
from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.results.growth import Flip, GrownQuery, Growth, GrowthCurve, Size, Worth
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Hollow
from humble_ledger.errors import HumbleError, WrongUsage
from humble_ledger.ledger.ids import parse_id
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.reading.plans import table_names
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.supposing.suppose import growth_of, statement_of
from humble_ledger.workflow.workspace import Workspace

STEPS = 8
MOST_INDEXES = 4  # of those that were proposed for a query
NEAR_ENOUGH = 1.05  # a flip is sought until the two sizes around it differ by no more


@dataclass(slots=True)
class _Sizes:
    """The plans of one statement by size; each size is asked once."""

    hollow: Hollow
    targets: Mapping[TableName, float]
    statement: Statement
    longer: bool = False
    known: dict[float, Plan] = field(default_factory=dict)
    indexes: Sequence[tuple[str, IndexDesign, IndexShape]] = ()
    gains: dict[tuple[str, float], float] = field(default_factory=dict)

    @property
    def most(self) -> float:
        """The largest factor, by which sizes are told."""
        return max(self.targets.values())

    def at(self, place: float) -> Size:
        """A size between now (0) and the last (1), on a scale of ratios."""
        if place not in self.known:
            self.known[place] = self.hollow.explain(
                self.statement, {}, rows=self._rows(place), longer_history=self.longer
            ).plan
            # What else is asked at this size is asked now: changing sizes takes longest.
            for remedy, _, _ in self.indexes:
                self.gain(remedy, place)
        return Size(self.most**place, self.known[place])

    def follow(self, index: tuple[str, IndexDesign, IndexShape]) -> None:
        """Ask about an index, too, from now on; one that cannot be built here is passed over."""
        before = self.indexes
        self.indexes = [*before, index]
        try:
            self.gain(index[0], 0.0)
        except HumbleError:
            self.indexes = before

    def gain(self, remedy: str, place: float) -> float:
        """How many times cheaper the query is with an index, at a size."""
        if (remedy, place) not in self.gains:
            design, shape = next((d, s) for name, d, s in self.indexes if name == remedy)
            there = self.hollow.explain(
                self.statement, {design: shape}, rows=self._rows(place), longer_history=self.longer
            )
            without = self.at(place).cost
            self.gains[remedy, place] = without / max(there.plan.cost_total or 0.0, 0.01)
        return self.gains[remedy, place]

    def _rows(self, place: float) -> dict[TableName, float]:
        rows = {table: factor**place for table, factor in self.targets.items()}
        return {table: factor for table, factor in rows.items() if factor != 1.0}


def grow(
    workspace: Workspace,
    tables: Sequence[str],
    whats: Sequence[str] = (),
    progress: Progress = lambda _: None,
    *,
    longer_history: bool = False,
) -> Growth:
    """Ask the planner about each query while these tables grow, as in "reading=100x".

    The rows that are added are like those that are there; with ``longer_history`` they are older.

    Raises:
        WrongUsage: a growth cannot be read, or is none.
        TargetUnreachable: no copy can be made here.
    """
    targets = dict(growth_of(workspace.session, text) for text in tables)
    if not targets or min(targets.values()) <= 1.0:
        raise WrongUsage(
            "Tables must grow here: by a factor above 1.", "Write it like  humble grow reading=100x"
        )
    hollow = workspace.hollow(progress)
    before = hollow.asked
    sizes, unaffected, left_out = [], [], []
    for what in whats or captured_queries(workspace):
        try:
            subject = subject_of(workspace, what)
            found = _Sizes(hollow, targets, statement_of(subject, what), longer_history)
            reads = set(table_names(found.at(0.0).plan))
        except HumbleError as error:
            if len(whats) == 1:
                raise
            left_out.append((what, str(error)))
            continue
        if _touched(workspace, reads, targets):
            if subject.query is not None:
                for index in _proposed(workspace, subject.query):
                    found.follow(index)
            sizes.append((subject.query or what, found))
        else:
            unaffected.append(what)
    # Size by size, as changing the size takes longer than a plan.
    for step in range(1, STEPS + 1):
        progress(f"growing, {step} of {STEPS}")
        for _, each in sizes:
            each.at(step / STEPS)
    queries = []
    for query, each in sizes:
        progress(f"seeking where the plan of {query} flips")
        flips = _flips(each)
        worths = _worths(each)
        points = tuple(each.at(place) for place in sorted(each.known))
        queries.append(GrownQuery(query, each.statement.sql, points, tuple(flips), worths))
    grown = tuple((str(table), factor) for table, factor in targets.items())
    if workspace.has_ledger:
        curves = {q.query: _curve(grown, q, longer_history) for q in queries if parse_id(q.query)}
        workspace.ledger.growths.keep(curves)
    return Growth(
        grown, tuple(queries), tuple(unaffected), tuple(left_out), tuple(hollow.notes),
        hollow.asked - before, longer_history,
    )  # fmt: skip


def _curve(
    tables: tuple[tuple[str, float], ...], query: GrownQuery, longer_history: bool
) -> GrowthCurve:
    return GrowthCurve(
        tables,
        tuple((round(s.factor, 6), s.cost) for s in query.sizes),
        tuple((round(f.factor, 6), said(f.last.plan), said(f.first.plan)) for f in query.flips),
        longer_history,
    )


def _touched(
    workspace: Workspace, reads: set[TableName], targets: Mapping[TableName, float]
) -> bool:
    """Whether a plan reads a table that grows, or a partition of one."""
    if reads & targets.keys():
        return True
    names = {table.name for table in targets}
    return any(facts.partition_of in names for facts in workspace.session.tables(reads).values())


def _proposed(workspace: Workspace, query: str) -> list[tuple[str, IndexDesign, IndexShape]]:
    """The indexes in the ledger for a query that can still be built, each with its size of now."""
    session = workspace.session
    formula, found = FormulaPredictor(session.costs, session), []
    for entry in workspace.ledger.remedies.indexes_for(query)[:MOST_INDEXES]:
        design = entry.remedy.index
        table = session.tables([design.table]).get(design.table) if design is not None else None
        if design is not None and table is not None:
            found.append((entry.id, design, formula.shape(design, table)))
    return found


def _worths(sizes: _Sizes) -> tuple[Worth, ...]:
    """From which size on each index pays, and until when."""
    found = []
    for remedy, design, _ in sizes.indexes:

        def pays(place: float, remedy: str = remedy) -> bool:
            return sizes.gain(remedy, place) >= CLEAR_GAIN

        turns = []
        for step in range(STEPS):
            start, end = step / STEPS, (step + 1) / STEPS
            if pays(start) != pays(end):
                at_first = pays(start)
                _, turn = _narrowed(sizes, start, end, lambda place: pays(place) == at_first)  # noqa: B023
                turns.append(sizes.most**turn)
        now, then = sizes.gain(remedy, 0.0), sizes.gain(remedy, 1.0)
        found.append(Worth(remedy, design.words, now, then, tuple(turns)))
    return tuple(found)


def _narrowed(
    sizes: _Sizes, low: float, high: float, as_at_first: Callable[[float], bool]
) -> tuple[float, float]:
    """Two sizes near each other between which something turns, by halving."""
    while sizes.most ** (high - low) > NEAR_ENOUGH:
        middle = (low + high) / 2
        low, high = (middle, high) if as_at_first(middle) else (low, middle)
    return low, high


def _flips(sizes: _Sizes) -> list[Flip]:
    """Each change of plan between neighbouring steps."""
    found = []
    for step in range(STEPS):
        start, end = step / STEPS, (step + 1) / STEPS
        while not _same(sizes.at(start).plan, sizes.at(end).plan):
            begun = sizes.at(start).plan
            low, high = _narrowed(
                sizes,
                start,
                end,
                lambda place: _same(begun, sizes.at(place).plan),  # noqa: B023
            )
            found.append(Flip(sizes.at(low), sizes.at(high)))
            start = high  # there may be another one before the next step
    return found


def _same(one: Plan, other: Plan) -> bool:
    """Whether two plans are the same in the words that they are told by."""
    return said(one) == said(other)
