"""`humble capture …`: slow statements into the ledger."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

app = typer.Typer(
    no_args_is_help=True, help="Gather slow statements: from log files now, more sources to come."
)


@app.callback()
def _capture() -> None:
    """Gather slow statements into the ledger."""


@app.command("log")
def log(
    files: Annotated[
        list[Path],
        typer.Argument(
            help="Logs of PostgreSQL: plain, csv or JSON, also .gz, .xz, .zst; or - (stdin).",
            show_default=False,
        ),
    ],
    prefix: Annotated[
        str | None,
        typer.Option(
            "--prefix",
            help="The server's log_line_prefix; default: asked of the target, or recognised.",
            show_default=False,
        ),
    ] = None,
    again: Annotated[
        bool, typer.Option("--again", help="Read from the start, not from where it was left.")
    ] = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Read the server's logs: statements with their durations and values.

    Each log is read on from where the last capture stopped, also when it was renamed or
    compressed since. The server writes what this
    needs when log_min_duration_statement is set.

    Example: [bold]humble capture log /var/log/postgresql/postgresql.log[/bold]
    """
    from humble_ledger.views.documents import capture_document  # noqa: PLC0415
    from humble_ledger.views.terminal.queries import capture_view  # noqa: PLC0415
    from humble_ledger.workflow.capturing import capture_log  # noqa: PLC0415

    with workspace_for(target) as workspace, output.progress() as progress:
        entry = capture_log(workspace, files, prefix, again, progress)
    output.give(
        json,
        lambda: capture_document(entry),
        lambda: capture_view(entry, numbers_of(workspace)),
    )
