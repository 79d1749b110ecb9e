"""How a plan is shown: which form, which columns, which of its steps."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from humble_ledger.errors import WrongUsage
from humble_ledger.views.figures.plan_figure import Flow
from humble_ledger.views.terminal.plan_table import check_columns

DEFAULT = "default"


class PlanShape(StrEnum):
    """The forms there are."""

    TREE = "tree"
    TABLE = "table"
    STEPS = "steps"
    TABLES = "tables"
    FIGURE = "figure"


@dataclass(frozen=True, slots=True)
class PlanForm:
    """A form; ``find`` keeps the steps that mention a text, ``focus`` is one step's number."""

    shape: PlanShape = PlanShape.TREE
    find: str = ""
    focus: int | None = None
    columns: tuple[str, ...] = ()

    @classmethod
    def of(cls, shape: str, find: str, focus: int | None) -> PlanForm:
        """The form that was asked for.

        Raises:
            WrongUsage: there is none of that name.
        """
        if shape not in list(PlanShape):
            raise WrongUsage(
                f'A plan cannot be shown as "{shape}".', f"Use one of: {', '.join(PlanShape)}"
            )
        return cls(PlanShape(shape), find, focus)

    def with_columns(self, columns: tuple[str, ...]) -> PlanForm:
        """The same with these columns."""
        return replace(self, columns=columns)


def chosen_columns(asked: str, remembered: tuple[str, ...]) -> tuple[str, ...]:
    """The columns of the table: those asked for, else those remembered; () are the usual ones.

    Raises:
        WrongUsage: one of those asked for is unknown.
    """
    if asked == DEFAULT:
        return ()
    if not asked:
        return remembered
    return check_columns([name.strip() for name in asked.split(",") if name.strip()])


def flow_of(asked: str) -> Flow:
    """The way the rows flow in a figure.

    Raises:
        WrongUsage: there is none of that name.
    """
    if asked not in list(Flow):
        raise WrongUsage(f'Rows cannot flow "{asked}".', f"Use one of: {', '.join(Flow)}")
    return Flow(asked)
