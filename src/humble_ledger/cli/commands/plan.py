"""`humble plan WHAT`: how the server runs a statement."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def plan(
    what: options.What,
    measure: options.Measure = False,
    allow_writes: Annotated[
        bool,
        typer.Option(
            "--allow-writes",
            help="With --measure: run a statement that changes data too, and roll it back.",
        ),
    ] = False,
    shown_as: Annotated[
        str, typer.Option("--as", help="tree, table, or steps (told in plain sentences).")
    ] = "tree",
    columns: Annotated[
        str,
        typer.Option(
            "--columns",
            help="Columns of the table, in order, remembered: own_ms,rows_seen,step; "
            "«default» for the usual ones.",
        ),
    ] = "",
    find: Annotated[
        str, typer.Option("--find", help="Only steps that mention a table, index or condition.")
    ] = "",
    focus: Annotated[
        int | None, typer.Option("--focus", help="One step with all that is known.", min=1)
    ] = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Read the execution plan: own time and cost of each step, rows expected and seen.

    Without --measure nothing is run: figures are the server's estimates. A plan saved as text,
    JSON, YAML or XML is read without a server.

    Example: [bold]humble plan q3 --measure --as steps[/bold]
    """
    from humble_ledger.views.documents import plan_document  # noqa: PLC0415
    from humble_ledger.views.terminal.plan_forms import PlanForm, chosen_columns  # noqa: PLC0415
    from humble_ledger.views.terminal.plans import plan_view  # noqa: PLC0415
    from humble_ledger.workflow.configuration import remember_columns  # noqa: PLC0415
    from humble_ledger.workflow.reading import plan_of  # noqa: PLC0415

    form = PlanForm.of(shown_as if not columns else "table", find, focus)
    with workspace_for(target, timeout) as workspace, output.progress() as progress:
        form = form.with_columns(chosen_columns(columns, workspace.configuration.plan_columns))
        progress("measuring" if measure else "asking for the plan")
        entry = plan_of(workspace, what, measure=measure, allow_writes=allow_writes)
        if columns:
            remember_columns(workspace.configuration, form.columns)
    output.give(
        json,
        lambda: plan_document(entry),
        lambda: plan_view(entry, numbers_of(workspace), form),
    )
