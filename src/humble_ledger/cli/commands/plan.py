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
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Read the execution plan: own time and cost of each step, rows expected and seen.

    Without --measure nothing is run: figures are the server's estimates.

    Example: [bold]humble plan q3 --measure[/bold]
    """
    from humble_ledger.views.documents import plan_document  # noqa: PLC0415
    from humble_ledger.views.terminal.plans import plan_view  # noqa: PLC0415
    from humble_ledger.workflow.reading import plan_of  # noqa: PLC0415

    with workspace_for(target, timeout) as workspace, output.progress() as progress:
        progress("measuring" if measure else "asking for the plan")
        entry = plan_of(workspace, what, measure=measure, allow_writes=allow_writes)
    output.give(json, lambda: plan_document(entry), lambda: plan_view(entry, numbers_of(workspace)))
