"""`humble settle t1 keep|drop`: the decision, and the migration pair."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import workspace_for


def settle(
    trial: Annotated[str, typer.Argument(help="The trial, t1.", metavar="TRIAL")],
    decision: Annotated[str, typer.Argument(help="keep or drop.", metavar="keep|drop")],
    reason: Annotated[
        str, typer.Option("--reason", help="Why; default: the verdict.", show_default=False)
    ] = "",
    json: options.Json = False,
) -> None:
    """Record the decision on a trial; keep writes the forward and the backward migration.

    Example: [bold]humble settle t1 keep --reason "buoy pages time out"[/bold]
    """
    from humble_ledger.views.documents.trials import settlement_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import settled_view  # noqa: PLC0415
    from humble_ledger.workflow.settling import settle as decide  # noqa: PLC0415

    with workspace_for() as workspace:
        settled = decide(workspace, trial, decision, reason)
    output.give(
        json, lambda: settlement_document(settled.entry), lambda: settled_view(settled.entry)
    )
