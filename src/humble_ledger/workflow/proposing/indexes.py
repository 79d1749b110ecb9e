"""Candidate indexes of several queries as one pool: each priced for every query it touches."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from math import isfinite

from humble_ledger.core.costs.model import Search
from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.building import Build, build_range_ms
from humble_ledger.core.remedies.candidates.model import Candidate, IndexAbilities
from humble_ledger.core.remedies.candidates.thorough import thorough
from humble_ledger.core.remedies.candidates.wholes import on_wholes
from humble_ledger.core.remedies.choice.merging import merged
from humble_ledger.core.remedies.choice.worth import CLEAR_GAIN, Priced
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction, Remedy, RemedyType, index_remedy
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.remedies.prediction.contract import Predictor, WhatIfCost
from humble_ledger.core.remedies.prediction.planned import WAY as PLANNER
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.remedies.write_overhead import SeenUpdate, write_overhead_of
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.changes import change_of
from humble_ledger.errors import HumbleError, Interrupted
from humble_ledger.workflow.progress import Progress, Stop, counted
from humble_ledger.workflow.proposing.studying import Studied, study
from humble_ledger.workflow.reading.ranking import captured_queries
from humble_ledger.workflow.supposing.predictors import PredictWith, predictor_of
from humble_ledger.workflow.workspace import Workspace

STOPPED = "not looked at, as it was stopped"

HANDFUL = 8.0  # rows that lie apart
WORTH_A_LINE = 1.01  # times cheaper: less is rounding


@dataclass(slots=True)
class Pool:
    """All candidates of the studied queries, priced by one predictor; each is asked once.

    ``declined`` tells why the planner could not be asked; "" when it was. ``left_out`` are
    subjects that could not be studied, each with the reason. Once a ``stop`` was asked for, nobody
    is asked any more: what is not known yet is taken for no better than what is.
    """

    studied: Sequence[Studied]
    predictor: Predictor
    progress: Progress
    stop: Stop = field(default_factory=Stop)
    declined: str = ""
    left_out: tuple[tuple[str, str], ...] = ()
    _outlooks: dict[str, dict[frozenset[IndexDesign], WhatIfCost]] = field(default_factory=dict)
    _by_query: dict[str, Studied] = field(default_factory=dict)
    _candidates: dict[IndexDesign, Candidate] = field(default_factory=dict)
    tables: dict[TableName, TableFacts] = field(default_factory=dict)

    def __post_init__(self) -> None:
        """Gather the tables that are read, and each candidate once."""
        self._by_query = {each.query: each for each in self.studied}
        for each in self.studied:
            self.tables.update(each.tables)
            for candidate in each.candidates:
                self._candidates.setdefault(candidate.design, candidate)

    @staticmethod
    def of(
        workspace: Workspace,
        whats: Sequence[str],
        progress: Progress,
        wish: PredictWith | None = None,
        stop: Stop | None = None,
        types: Collection[RemedyType] = tuple(RemedyType),
    ) -> Pool:
        """The pool for some subjects, or for all captured queries when none is named.

        What remedies of no wanted type would take is not asked.

        Raises:
            Interrupted: a stop was asked for before anything was studied.
        """
        stop = stop or Stop()
        studied, left_out, begun = [], [], 0
        wanted = list(whats or captured_queries(workspace))
        for what in counted(wanted, "studying {}".format, progress, stop):
            begun += 1
            try:
                studied.append(study(workspace, what, progress, types))
            except HumbleError as error:
                # One statement that fails must not take the others' proposals away.
                if len(whats) == 1:
                    raise
                left_out.append((what, str(error)))
        if stop.asked and not studied:
            raise Interrupted("Stopped before any query was studied.")
        left_out += [(what, STOPPED) for what in wanted[begun:]]
        if RemedyType.INDEX not in types:
            wish = wish or PredictWith.FORMULA  # no copy is made of which nothing would be asked
        predictor, declined = predictor_of(workspace, progress, wish)
        if isinstance(predictor, PlannedPredictor) and RemedyType.INDEX in types:
            wide = {
                each.query: _more_thorough(each, predictor, workspace.engine.dialect)
                for each in counted(studied, _with_more, progress, stop)
            }
            studied = [wide.get(each.query, each) for each in studied]
        return Pool(studied, predictor, progress, stop, declined, tuple(left_out))

    def priced(self, *, merging: bool = False) -> list[Priced]:
        """Every candidate that clearly helps a query by itself, with all that it does.

        With ``merging`` also indexes made of two that are useful.
        """
        found = self._priced(self._candidates)
        if merging:
            designs = {p.design for p in found}
            useful = {d: c for d, c in self._candidates.items() if d in designs}
            made: dict[IndexDesign, Candidate] = {}
            for each in merged(useful.values()):
                if each.design not in designs:
                    made.setdefault(each.design, each)
            found += self._priced(made)
        return found

    def needless(self, priced: Priced) -> bool:
        """Whether writing the statements otherwise does what an index on an expression would."""
        if not any(key.expression for key in priced.design.keys):
            return False
        rewritten = {
            p.query: p.cost_predicted
            for each in self.studied
            for other in each.others
            if other.type is RemedyType.REWRITE
            for p in other.predictions
        }
        helped = [p for p in priced.predictions if p.gain >= CLEAR_GAIN]
        return all(
            rewritten.get(p.query, float("inf")) <= CLEAR_GAIN * p.cost_predicted for p in helped
        )

    def outlook(self, query: str, designs: frozenset[IndexDesign]) -> WhatIfCost:
        """What a query would cost with these indexes."""
        studied = self._by_query[query]
        mine = frozenset(design for design in designs if design.table in studied.tables)
        known = self._outlooks.setdefault(query, {})
        if mine not in known:
            if self.stop.asked:
                now = studied.plan.plan.cost_total or 0.0
                return _at_least(mine, known) or WhatIfCost(now, now, (), self.predictor.way)
            known[mine] = _follows(mine, known) or self.predictor.outlook(
                studied.asked, sorted(mine, key=lambda design: design.words)
            )
        return known[mine]

    def prime(self, designs: Iterable[IndexDesign]) -> None:
        """Ask of every query what it would use if all of these were there.

        Of smaller sets most then need not be asked.
        """
        everything = frozenset(designs)

        def words(each: Studied) -> str:
            return f"planning {each.query} with all of {len(everything)} indexes"

        for each in counted(self.studied, words, self.progress, self.stop):
            self.outlook(each.query, everything)

    def cost(self, query: str, designs: frozenset[IndexDesign]) -> float:
        """The predicted cost of a query with these indexes."""
        return self.outlook(query, designs).cost

    def _priced(self, candidates: Mapping[IndexDesign, Candidate]) -> list[Priced]:
        found = []

        def words(pair: tuple[IndexDesign, Candidate]) -> str:
            return f"predicting {pair[0].words}"

        for design, candidate in counted(list(candidates.items()), words, self.progress, self.stop):
            predictions = self._predictions(design)
            if any(p.gain >= CLEAR_GAIN for p in predictions):
                shape = self.predictor.shape(design, candidate.access.table)
                size = shape.size_bytes(candidate.access.table.page_bytes)
                found.append(Priced(design, predictions, size, candidate.reason))
        return found

    def _predictions(self, design: IndexDesign) -> tuple[Prediction, ...]:
        return tuple(
            self._prediction(each, design) for each in self.studied if design.table in each.tables
        )

    def _prediction(self, studied: Studied, design: IndexDesign) -> Prediction:
        """What a query gains by an index: alone, else beside the others that it came up with."""
        query = studied.query
        told = self.outlook(query, frozenset([design])).prediction(query)
        beside = studied.beside(design) if told.gain < CLEAR_GAIN else ()
        if not beside:
            return told
        together = self.outlook(query, frozenset((design, *beside))).prediction(query)
        return replace(together, beside=beside) if together.gain >= CLEAR_GAIN else told


def _with_more(studied: Studied) -> str:
    return f"planning {studied.query} with indexes that might serve it"


def _more_thorough(studied: Studied, predictor: PlannedPredictor, dialect: Dialect) -> Studied:
    """A query with candidates, too, that no rule came to, and that the planner would use."""
    means = IndexAbilities(
        methods=dialect.methods, includes=dialect.includes, most_key_bytes=dialect.most_key_bytes
    )
    known = {each.design for each in studied.candidates}
    found = on_wholes(thorough(studied.plan.plan, studied.tables, means), studied.tables)
    wide = [c for c in found if c.design not in known]
    more = predictor.taken_of(studied.asked, studied.candidates_in_order, wide)
    return replace(studied, candidates=(*studied.candidates, *more))


def _follows(
    designs: frozenset[IndexDesign], known: Mapping[frozenset[IndexDesign], WhatIfCost]
) -> WhatIfCost | None:
    """What a planner finds with a set, where it follows from what it found with a larger one.

    The cheapest of many plans is still the cheapest of some of them, as long as it is among
    these: as long as all indexes that it uses are left.
    """
    for larger, found in known.items():
        if designs <= larger and found.way == PLANNER and {u.design for u in found.used} <= designs:
            return found
    return None


def _at_least(
    designs: frozenset[IndexDesign], known: Mapping[frozenset[IndexDesign], WhatIfCost]
) -> WhatIfCost | None:
    """The best that is known of a part of a set; None when nothing is."""
    parts = [found for some, found in known.items() if some <= designs]
    return min(parts, key=lambda found: found.cost, default=None)


@dataclass(slots=True)
class IndexRemedies:
    """Makes remedies of priced designs: names, write overhead, build time."""

    workspace: Workspace
    pool: Pool
    updates: Sequence[SeenUpdate]
    builds: Sequence[Build]
    _names: set[str] = field(default_factory=set)

    @staticmethod
    def of(workspace: Workspace, pool: Pool) -> IndexRemedies:
        """With what the ledger knows of updates and of builds."""
        return IndexRemedies(workspace, pool, seen_updates(workspace), measured_builds(workspace))

    def remedy(self, priced: Priced) -> Remedy:
        """The remedy "build this index"."""
        table = self.pool.tables[priced.design.table]
        low, high, measured = build_range_ms(table.rows, self.builds)
        return index_remedy(
            priced.design,
            reason=priced.reason,
            predictions=tuple(p for p in priced.predictions if p.gain >= WORTH_A_LINE or p.harms),
            size_bytes=priced.size_bytes,
            write_overhead=write_overhead_of(
                table, priced.design, self._share(priced.design), self.updates
            ),
            name=self.name(priced.design, table),
            build_ms=(low, high),
            build_measured=measured,
            dialect=self.workspace.engine.dialect,
        )

    def handful(self, design: IndexDesign) -> float:
        """The cost of fetching a handful of rows by it: what saves less is no reason to build it.

        0 where the server's formulas are not known.
        """
        table = self.pool.tables[design.table]
        share = min(1.0, HANDFUL / max(table.rows, 1.0))
        shape = self.pool.predictor.shape(design, table)
        cost = self.workspace.session.costs.index_scan(table, shape, Search(share, share, 1), 0.0)
        return cost.total if isfinite(cost.total) else 0.0

    def extra_entries(self, priced: Priced) -> float:
        """Index entries it would have added to what was written since the counters began."""
        table = self.pool.tables[priced.design.table]
        share = self._share(priced.design)
        return write_overhead_of(table, priced.design, share, self.updates).entries_added

    def name(self, design: IndexDesign, table: TableFacts) -> str:
        """A name by the configured pattern that no other index has."""
        taken = {index.name for index in table.indexes} | self._names
        name = index_name(design, self.workspace.configuration.index_names, taken)
        self._names.add(name)
        return name

    def _share(self, design: IndexDesign) -> float:
        """The part of the table's rows that the index holds."""
        table = self.pool.tables[design.table]
        if not design.predicate or table.rows <= 0:
            return 1.0
        return min(1.0, self.pool.predictor.shape(design, table).entries / table.rows)


def seen_updates(workspace: Workspace) -> list[SeenUpdate]:
    """The captured updates: which columns they set, how often."""
    found = []
    for query in workspace.ledger.queries.all():
        change = change_of(query.text) if query.seen else None
        if change is not None and change.verb == "UPDATE":
            found.append(SeenUpdate(query.id, change.table, change.columns, query.usage.calls))
    return found


def writers_of(workspace: Workspace, tables: Iterable[TableName]) -> tuple[tuple[str, str], ...]:
    """The captured queries that change rows of these tables, each with its table."""
    names = {str(table) for table in tables}
    found = []
    for query in workspace.ledger.queries.all():
        change = change_of(query.text) if query.seen else None
        if change is not None and change.table.removeprefix("public.") in names:
            found.append((query.id, change.table.removeprefix("public.")))
    return tuple(found)


def measured_builds(workspace: Workspace) -> list[Build]:
    """Builds of single indexes that earlier trials measured on this target."""
    trials = [
        t.trial
        for t in workspace.ledger.trials.all()
        if t.trial is not None and t.target == workspace.public_url and t.trial.build_ms > 0
    ]
    found = []
    for trial in trials:
        entries = [workspace.ledger.remedies.get(id_) for id_ in trial.remedies]
        designs = [e.remedy.index for e in entries if e.remedy.index is not None]
        if len(entries) == 1 and designs:
            facts = workspace.session.tables([designs[0].table])
            rows = [table.rows for table in facts.values()]
            found += [Build(rows[0], trial.build_ms)] if rows else []
    return found
