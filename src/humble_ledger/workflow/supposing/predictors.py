"""Which way of predicting serves here: the planner on a hollow, else the formula."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum

from humble_ledger.core.remedies.prediction.contract import Predictor
from humble_ledger.core.remedies.prediction.formula import FormulaPredictor
from humble_ledger.core.remedies.prediction.planned import PlannedPredictor
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.engines.contract import Session
from humble_ledger.errors import HumbleError, WrongUsage
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.supposing.planner import HollowPlanner
from humble_ledger.workflow.workspace import Workspace


class PredictWith(StrEnum):
    """A way of predicting that somebody asks for."""

    PLANNER = "planner"
    FORMULA = "formula"


def predictor_named(word: str) -> PredictWith | None:
    """The way that a word of the command line names; None for "".

    Raises:
        WrongUsage: it names none.
    """
    if word and word not in tuple(PredictWith):
        raise WrongUsage(f'Unknown way of predicting "{word}".', "Use planner or formula.")
    return PredictWith(word) if word else None


def _cost_on(session: Session) -> Callable[[Statement], float | None]:
    def cost(statement: Statement) -> float | None:
        try:
            return session.explain(statement).plan.cost_total
        except HumbleError:
            return None

    return cost


def predictor_of(
    workspace: Workspace, progress: Progress, wish: PredictWith | None = None
) -> tuple[Predictor, str]:
    """The predictor, and why it is not the planner ("" when it is, or the formula was asked for).

    Raises:
        HumbleError: the planner was asked for, and no hollow can be made.
    """
    session = workspace.session
    formula = FormulaPredictor(session.costs, session)
    if wish is PredictWith.FORMULA:
        return formula, ""
    try:
        planner = HollowPlanner(workspace.hollow(progress))
        return PlannedPredictor(planner, formula, session.costs, _cost_on(session)), ""
    except HumbleError as error:
        if wish is PredictWith.PLANNER:
            raise
        return formula, str(error)
