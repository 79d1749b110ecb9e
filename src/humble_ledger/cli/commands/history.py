"""`humble history`: the ledger in order of time."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

FIRST_PAGE = 100


def history(
    last: Annotated[
        int, typer.Option("--last", help="Number of lines, the newest ones.", min=1)
    ] = FIRST_PAGE,
    everything: Annotated[bool, typer.Option("--all", help="All lines, however many.")] = False,
    predictions: Annotated[
        bool,
        typer.Option("--predictions", help="What was predicted, against what trials found."),
    ] = False,
    to: Annotated[
        Path | None,
        typer.Option("--to", help="With --predictions: draw them into .svg, .png or .pdf."),
    ] = None,
    json: options.Json = False,
) -> None:
    """Tell the ledger in order of time, or how good its predictions were.

    Example: [bold]humble history --last 20[/bold], or [bold]humble history --predictions[/bold]
    """
    if predictions or to is not None:
        _predictions(to, json)
        return
    from humble_ledger.views.documents.history import history_document  # noqa: PLC0415
    from humble_ledger.views.terminal.trials import history_view  # noqa: PLC0415

    with workspace_for() as workspace:
        found = workspace.ledger.history(None if everything else last)
        numbers = numbers_of(workspace)
    output.give(json, lambda: history_document(found), lambda: history_view(found, numbers))


def _predictions(to: Path | None, json: bool) -> None:
    """Predicted against found, as a table or a figure."""
    from humble_ledger.views.documents.predictions import predictions_document  # noqa: PLC0415
    from humble_ledger.views.terminal.predictions import predictions_view  # noqa: PLC0415
    from humble_ledger.workflow.trying.checked_predictions import checked_predictions  # noqa: PLC0415

    with workspace_for() as workspace:
        found = checked_predictions(workspace)
        numbers = numbers_of(workspace)
    if to is not None:
        from humble_ledger.cli.drawing import drawn  # noqa: PLC0415
        from humble_ledger.views.figures.predictions_figure import (  # noqa: PLC0415
            draw_predictions,
        )

        drawn(to, lambda: draw_predictions(found, to))
        if not json:
            output.show(f"figure  {to}")
            return
    output.give(json, lambda: predictions_document(found), lambda: predictions_view(found, numbers))
