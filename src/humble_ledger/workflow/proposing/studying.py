"""One query looked at closely: its plan, how that reads its tables, what could serve it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.remedies.candidates.model import Candidate
from humble_ledger.core.remedies.candidates.registry import candidates
from humble_ledger.core.remedies.candidates.wholes import on_wholes
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.model import Prediction, Remedy, RemedyType
from humble_ledger.core.remedies.prediction.contract import Asked
from humble_ledger.core.remedies.rewrites.remedies import rewrite_remedies
from humble_ledger.core.remedies.settings import setting_remedies
from humble_ledger.core.remedies.statistics import statistics_remedies
from humble_ledger.core.results.proposals import RefusedRewriting
from humble_ledger.core.routes.exploring import said
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.symptoms.in_plans.registry import find_symptoms
from humble_ledger.engines.contract import ExplainOptions
from humble_ledger.errors import RefusedForSafety, StatementRejected, WrongUsage
from humble_ledger.workflow.diagnosing.plans import case_of, plan_to_judge
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.proposing.rewriting import PLANNER, rewrites
from humble_ledger.workflow.reading.abilities import abilities
from humble_ledger.workflow.reading.saved import SAVED
from humble_ledger.workflow.reading.subjects import subject_of
from humble_ledger.workflow.reading.wholes import with_wholes
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Studied:
    """One query with its plan and all that could serve it.

    ``weight_ms`` is its captured time, 0 when none was captured; ``calls`` how often it was seen.
    ``refused`` are rewritings that were found to mean something else.
    """

    query: str
    plan: PlanEntry
    tables: Mapping[TableName, TableFacts]
    asked: Asked
    candidates: tuple[Candidate, ...]
    others: tuple[Remedy, ...]
    weight_ms: float
    calls: int = 0
    refused: tuple[RefusedRewriting, ...] = ()

    def beside(self, design: IndexDesign) -> tuple[IndexDesign, ...]:
        """What an index came up with for this query, without which it may be of no use."""
        return next((c.beside for c in self.candidates if c.design == design), ())

    @property
    def candidates_in_order(self) -> list[Candidate]:
        """Those on bare columns, which keep rows in an order."""
        return [
            c
            for c in self.candidates
            if c.design.method == IndexMethod.SORTED
            and not c.design.predicate
            and all(key.column in c.access.table.columns for key in c.design.keys)
        ]


def study(
    workspace: Workspace,
    what: str,
    progress: Progress = lambda _: None,
    types: Collection[RemedyType] = tuple(RemedyType),
) -> Studied:
    """Read the plan that stands for a subject, and find what could serve it.

    Rewritings are searched for counterexamples only where they are among the ``types`` wanted.

    Raises:
        WrongUsage: it is a saved plan, whose server is not known.
    """
    subject = subject_of(workspace, what)
    entry = plan_to_judge(workspace, subject, measure=False)
    if entry.origin == SAVED:
        raise WrongUsage(
            f"{what} is a saved plan: what would help is a question to its server.",
            "Named alone it gets ideas without predictions:  humble propose FILE",
        )
    case, _ = case_of(workspace, entry)
    query = entry.query or what
    runs = workspace.ledger.queries.all(query) if entry.query else []
    symptoms = find_symptoms(case)
    dialect = workspace.engine.dialect
    worded = (
        rewrite_remedies(entry.statement, case.tables, symptoms, query, dialect)
        if RemedyType.REWRITE in types
        else ()
    )
    rewritten = rewrites(workspace, entry, case.tables, worded, progress)
    others = [
        *statistics_remedies(case, symptoms, query, dialect),
        *(
            _priced_setting(workspace, entry, each)
            for each in setting_remedies(case, symptoms, query, dialect)
            if dialect.settings
        ),
        *rewritten.remedies,
    ]
    tables = with_wholes(workspace.session, case.tables)
    found = candidates(entry.plan, case.tables, abilities(workspace, subject, entry))
    return Studied(
        query,
        entry,
        tables,
        Asked.of(Statement(entry.statement, entry.parameters), entry.plan, tables),
        tuple(on_wholes(found, tables)),
        tuple(others),
        runs[0].usage.total_ms if runs else 0.0,
        runs[0].usage.calls if runs else 0,
        rewritten.refused,
    )


def _priced_setting(workspace: Workspace, entry: PlanEntry, remedy: Remedy) -> Remedy:
    """A setting with the cost the planner itself estimates under it."""
    statement = Statement(entry.statement, entry.parameters)
    try:
        under = workspace.session.explain(statement, ExplainOptions(settings=remedy.settings)).plan
    except (StatementRejected, RefusedForSafety):
        return remedy
    before, after = entry.plan.cost_total, under.cost_total
    if before is None or after is None or entry.query is None:
        return remedy
    now = "the present plan"
    return replace(
        remedy, predictions=(Prediction(entry.query, before, after, PLANNER, now, said(under)),)
    )
