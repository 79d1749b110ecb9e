"""A plan as a flat table, with the columns one chooses."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from rich.console import RenderableType

from humble_ledger.core.estimates.accuracy import row_error
from humble_ledger.core.plans.arithmetic import StepMetrics, accounts
from humble_ledger.core.plans.model import Node, Pages, Plan
from humble_ledger.errors import WrongUsage
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import plain_table
from humble_ledger.views.terminal.text import Text

Figure = Callable[[Node, StepMetrics, Numbers], str]
DEFAULT = ("no", "self_ms", "share", "rows_expected", "rows_seen", "loops", "pages", "step")
DEFAULT_ESTIMATED = ("no", "self_cost", "total_cost", "share", "rows_expected", "step")


@dataclass(frozen=True, slots=True)
class _Column:
    heading: str
    figure: Figure
    text: bool = False


def _pages(part: Callable[[Pages], int]) -> Figure:
    return lambda node, account, numbers: (
        numbers.whole(part(account.self_pages)) if account.self_pages else "–"
    )


def _off(node: Node, account: StepMetrics, numbers: Numbers) -> str:
    error = row_error(node)
    return numbers.times(error.factor) if error is not None else "–"


COLUMNS: Mapping[str, _Column] = {
    "no": _Column("no", lambda n, a, f: str(n.no)),
    "step": _Column("step", lambda n, a, f: n.name, text=True),
    "operation": _Column("operation", lambda n, a, f: n.operation.value, text=True),
    "table": _Column("table", lambda n, a, f: n.relation or "–", text=True),
    "index": _Column("index", lambda n, a, f: n.index or "–", text=True),
    "self_ms": _Column("self ms", lambda n, a, f: f.figure(a.self_ms)),
    "total_ms": _Column("total ms", lambda n, a, f: f.figure(a.total_ms)),
    "process_ms": _Column("process ms", lambda n, a, f: f.figure(a.process_ms)),
    "share": _Column("share", lambda n, a, f: f.percent(a.self_share)),
    "self_cost": _Column("self cost", lambda n, a, f: f.figure(a.self_cost)),
    "total_cost": _Column("total cost", lambda n, a, f: f.figure(n.cost.total if n.cost else None)),
    "rows_expected": _Column("rows expected", lambda n, a, f: f.rows(n.rows_expected)),
    "rows_seen": _Column(
        "seen", lambda n, a, f: "never ran" if n.never_ran else f.rows(n.rows_seen)
    ),
    "rows_in_all": _Column("rows in all", lambda n, a, f: f.rows(a.rows)),
    "rows_off": _Column("rows off", _off),
    "rows_discarded": _Column("discarded", lambda n, a, f: f.rows(a.rows_discarded)),
    "loops": _Column("loops", lambda n, a, f: f.rows(n.loops)),
    "pages": _Column("pages", _pages(lambda p: p.touched)),
    "pages_cached": _Column("cached", _pages(lambda p: p.cached)),
    "pages_read": _Column("read", _pages(lambda p: p.read)),
    "temp_pages": _Column("temporary", _pages(lambda p: p.temp_read + p.temp_written)),
    "memory": _Column("memory", lambda n, a, f: f.size(n.memory.used_bytes) if n.memory else "–"),
    "condition": _Column(
        "condition", lambda n, a, f: "; ".join(n.conditions.all()) or "–", text=True
    ),
}


def check_columns(names: Sequence[str]) -> tuple[str, ...]:
    """The names, when the table has them all.

    Raises:
        WrongUsage: it lacks one; the message lists those there are.
    """
    for name in names:
        if name not in COLUMNS:
            raise WrongUsage(
                f'A plan\'s table has no column "{name}".', f"It has: {', '.join(COLUMNS)}"
            )
    return tuple(names)


def plan_table(plan: Plan, numbers: Numbers, names: Sequence[str] = ()) -> RenderableType:
    """One line for each step, in the order of the plan's text."""
    chosen = tuple(names) or (DEFAULT if plan.steps_measured else DEFAULT_ESTIMATED)
    columns = [COLUMNS[name] for name in chosen]
    table = plain_table(*((c.heading, "left" if c.text else "right") for c in columns))
    figures = accounts(plan)
    hottest = max(account.self_share for account in figures.values())
    for node in plan.nodes():
        account = figures[node.no]
        style = "bold" if account.self_share >= hottest * 0.999 else ""
        table.add_row(*(Text(c.figure(node, account, numbers), style=style) for c in columns))
    return table
