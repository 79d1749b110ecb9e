"""`humble plan WHAT`: how the server runs a statement."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from humble_ledger.core.entries import PlanEntry
    from humble_ledger.views.figures.plan_figure import Flow
    from humble_ledger.views.numbers import Numbers


def plan(
    what: options.What,
    measure: options.Measure = False,
    allow_writes: options.AllowWrites = False,
    values: Annotated[
        str,
        typer.Option(
            "--values",
            help="For $1 … without values: common, typical or rare ones, from the statistics.",
        ),
    ] = "",
    shown_as: Annotated[
        str,
        typer.Option(
            "--as",
            help="tree, table, steps (in sentences), tables (what surrounds it), figure.",
        ),
    ] = "tree",
    columns: Annotated[
        str,
        typer.Option(
            "--columns",
            help="Columns of the table, in order, remembered: self_ms,rows_seen,step; "
            '"default" for the usual ones.',
        ),
    ] = "",
    find: Annotated[
        str, typer.Option("--find", help="Only steps that mention a table, index or condition.")
    ] = "",
    focus: Annotated[
        int | None, typer.Option("--focus", help="One step with all that is known.", min=1)
    ] = None,
    to: Annotated[
        Path | None,
        typer.Option(
            "--to",
            help="With --as figure: the file, .svg, .png or .pdf; default: plan-p1.svg.",
            show_default=False,
        ),
    ] = None,
    flow: Annotated[
        str, typer.Option("--flow", help="With --as figure: which way rows flow, across or down.")
    ] = "across",
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Read the execution plan: self time and cost of each step, rows expected and seen.

    Without --measure nothing is run: figures are estimates. A plan saved as text,
    JSON, YAML or XML is read without a server.

    Example: [bold]humble plan q3 --measure --as steps[/bold]
    """
    from humble_ledger.views.documents.plans import plan_document  # noqa: PLC0415
    from humble_ledger.views.terminal.plan_forms import (  # noqa: PLC0415
        PlanForm,
        PlanShape,
        chosen_columns,
        flow_of,
    )
    from humble_ledger.views.terminal.plans import plan_view  # noqa: PLC0415
    from humble_ledger.workflow.configuration import remember_columns  # noqa: PLC0415
    from humble_ledger.workflow.reading.plans import plan_of  # noqa: PLC0415
    from humble_ledger.workflow.reading.surroundings import surroundings_of  # noqa: PLC0415

    form = PlanForm.of(shown_as if not columns else "table", find, focus)
    way = flow_of(flow)
    workspace = workspace_for(target, timeout, allow_side_effects)
    with workspace, output.progress() as progress:
        form = form.with_columns(chosen_columns(columns, workspace.configuration.plan_columns))
        progress("measuring" if measure else "asking for the plan")
        entry = plan_of(workspace, what, measure=measure, allow_writes=allow_writes, values=values)
        if columns:
            remember_columns(workspace.configuration, form.columns)
        around = None
        if form.shape is PlanShape.TABLES:
            around = surroundings_of(workspace, entry)
        if form.shape is PlanShape.FIGURE:
            progress("drawing")
            path = draw_figure(entry, numbers_of(workspace), to, way)
    if form.shape is PlanShape.FIGURE and not json:
        steps = sum(1 for _ in entry.plan.nodes())
        output.show(f"figure  {path} ({numbers_of(workspace).count(steps, 'steps')})")
        return
    output.give(
        json,
        lambda: plan_document(entry, around),
        lambda: plan_view(entry, numbers_of(workspace), form, around),
    )


def draw_figure(entry: PlanEntry, numbers: Numbers, to: Path | None, flow: Flow) -> Path:
    """Draw a plan into a file and tell which."""
    from humble_ledger.errors import UnreadableInput, WrongUsage  # noqa: PLC0415
    from humble_ledger.views.figures.plan_figure import draw_plan  # noqa: PLC0415

    path = to or Path(f"plan-{entry.id}.svg")
    try:
        draw_plan(entry, numbers, path, flow)
    except ValueError as error:
        raise WrongUsage(
            f"A figure cannot be drawn into {path}: its ending is not known.",
            "Let the file end in .svg, .png or .pdf.",
        ) from error
    except OSError as error:
        raise UnreadableInput(
            f"{path} cannot be written: {error.strerror}.", "Name another file with  --to"
        ) from error
    return path
