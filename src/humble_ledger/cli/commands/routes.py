"""`humble routes WHAT`: the other ways the server could run a statement."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def routes(
    what: options.What,
    measure: Annotated[
        bool,
        typer.Option("--measure", help="Run each way and measure it; slow ones are stopped."),
    ] = False,
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Show the other ways the server could run a statement, and what decides between them.

    The planner is asked again without each method its choice rests on (in this session only).
    It cannot be asked to leave out one index of several.

    Example: [bold]humble routes q3 --measure[/bold]
    """
    from humble_ledger.views.documents.routes import routes_document  # noqa: PLC0415
    from humble_ledger.views.terminal.routes import routes_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.routes import routes_of  # noqa: PLC0415

    workspace = workspace_for(target, timeout, allow_side_effects)
    with workspace, output.progress() as progress:
        found = routes_of(workspace, what, measure=measure, progress=progress)
    output.give(
        json, lambda: routes_document(found), lambda: routes_view(found, numbers_of(workspace))
    )
