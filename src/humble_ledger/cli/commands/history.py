"""`humble history`: the ledger in order of time."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import workspace_for


def history(
    last: Annotated[
        int | None, typer.Option("--last", help="Only the newest so many lines.", min=1)
    ] = None,
    json: options.Json = False,
) -> None:
    """Tell the ledger in order of time.

    Example: [bold]humble history --last 20[/bold]
    """
    from humble_ledger.views.documents.history import history_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import history_view  # noqa: PLC0415

    with workspace_for() as workspace:
        events = workspace.ledger.history(last)
    output.give(json, lambda: history_document(events), lambda: history_view(events))
