"""`humble settle t1 keep|drop`: the decision, and the migration pair."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def settle(
    trial: Annotated[str, typer.Argument(help="The trial, t1.", metavar="TRIAL")],
    decision: Annotated[str, typer.Argument(help="keep or drop.", metavar="keep|drop")],
    reason: Annotated[
        str, typer.Option("--reason", help="Why; default: the verdict.", show_default=False)
    ] = "",
    apply: Annotated[
        bool,
        typer.Option("--apply", help="Make the change on the target now, and check it there."),
    ] = False,
    on_production: Annotated[
        bool,
        typer.Option("--on-production", help="With --apply: a production server is meant."),
    ] = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Record the decision on a trial; keep writes the forward and the backward migration.

    With --apply the change is made without blocking writers; then the plans are read again.

    Example: [bold]humble settle t1 keep --reason "buoy pages time out"[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.trials import settlement_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import settled_view  # noqa: PLC0415
    from humble_ledger.workflow.settling.deciding import settle as decide  # noqa: PLC0415

    if (apply or on_production) and (decision != "keep" or not apply):
        raise WrongUsage(
            "--apply goes with keep, and --on-production with --apply.",
            f"Use  humble settle {trial} keep --apply",
        )
    applied = None
    with workspace_for(target) as workspace:
        numbers = numbers_of(workspace)
        if apply:
            from humble_ledger.workflow.settling.applying import apply_settled  # noqa: PLC0415

            with output.progress() as progress:
                applied = apply_settled(
                    workspace, trial, on_production=on_production, progress=progress
                )
        settled = decide(workspace, trial, decision, reason, applied=apply)
    output.give(
        json,
        lambda: settlement_document(settled.entry, applied),
        lambda: settled_view(settled.entry, applied, numbers),
    )
