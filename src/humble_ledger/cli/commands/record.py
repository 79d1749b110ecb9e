"""`humble record FILE [WHAT…]`: a target's answers in a file, to be asked again elsewhere."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def record(
    file: Annotated[
        Path,
        typer.Argument(help="The file to write, JSON Lines.", metavar="FILE", show_default=False),
    ],
    whats: options.Whats = None,
    measure: Annotated[
        bool, typer.Option("--measure", help="Also run each statement, and note what it took.")
    ] = False,
    trial: Annotated[
        bool, typer.Option("--trial", help="Also try the best remedy for each, as trial does.")
    ] = False,
    mask: Annotated[
        bool,
        typer.Option("--mask", help="Without literals and values, to be handed to a stranger."),
    ] = False,
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Write down what a target answers about statements; a colleague can go on from that file.

    It is asked all that plan, routes, diagnose and propose ask. With the file the same commands
    work without the server:  humble init recorded:FILE

    Example: [bold]humble record problem.jsonl q3 --measure[/bold]
    """
    from humble_ledger.views.documents.recordings import recording_document  # noqa: PLC0415
    from humble_ledger.views.terminal.recordings import recording_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.recording_answers import (  # noqa: PLC0415
        record as write_down,
    )

    workspace = workspace_for(target, timeout, allow_side_effects)
    with workspace, output.progress() as progress:
        found = write_down(
            workspace, file, whats or (), mask=mask, measure=measure or trial, trials=trial,
            progress=progress,
        )  # fmt: skip
        numbers = numbers_of(workspace)
    output.give(json, lambda: recording_document(found), lambda: recording_view(found, numbers))
