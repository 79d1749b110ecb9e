"""`humble capture …`: slow statements into the ledger."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.help_text import FlowingHelp, PlainGroup
from humble_ledger.cli.opening import numbers_of, workspace_for

app = typer.Typer(
    cls=PlainGroup,
    no_args_is_help=True,
    help="Gather slow statements: from logs, statistics, scripts, or as they run.",
)


@app.callback()
def _capture() -> None:
    """Gather slow statements into the ledger."""


@app.command("log", cls=FlowingHelp)
def log(
    files: Annotated[
        list[str] | None,
        typer.Argument(
            help="Logs of PostgreSQL (plain, csv, JSON), slow logs of MariaDB and MySQL, logs of "
            "an application (statement log, spans of traces); also .gz, .xz, .zst; URLs like "
            "s3://logs/*.log; or - (stdin).",
            show_default=False,
        ),
    ] = None,
    from_server: Annotated[
        bool,
        typer.Option(
            "--from-server",
            help="Let the target hand out its own log through the connection.",
        ),
    ] = False,
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
    on: Annotated[
        str,
        typer.Option(
            "--on",
            help="Let the workers of a Dask cluster read them, each log by one of them.",
            metavar="SCHEDULER",
            show_default=False,
        ),
    ] = "",
    mask: options.Mask = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Read logs: statements with their durations and values, plans, incidents, lines of code.

    Each log is read on from where the last capture stopped, also when it was renamed or
    compressed since. The server writes what this needs when log_min_duration_statement is set;
    an application writes it with humble_ledger.recording.

    Example: [bold]humble capture log /var/log/postgresql/postgresql.log[/bold]
    """
    from humble_ledger.views.documents.captures import capture_document  # noqa: PLC0415
    from humble_ledger.views.terminal.captures import capture_view  # noqa: PLC0415
    from humble_ledger.workflow.capturing.logs import capture_logs  # noqa: PLC0415

    with workspace_for(target) as workspace, output.progress() as progress:
        entry = capture_logs(
            workspace, files or [], prefix, again, mask, on, progress, of_server=from_server
        )
    output.give(
        json,
        lambda: capture_document(entry),
        lambda: capture_view(entry, numbers_of(workspace)),
    )


@app.command("server", cls=FlowingHelp)
def server(
    mask: options.Mask = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Look at the server's own statistics of statements: what was added since the last look.

    The first look takes everything since the server began to count. What must be switched
    on for that, "humble preflight" tells.

    Example: [bold]humble capture server[/bold]
    """
    from humble_ledger.views.documents.captures import capture_document  # noqa: PLC0415
    from humble_ledger.views.terminal.captures import capture_view  # noqa: PLC0415
    from humble_ledger.workflow.capturing.server import capture_server  # noqa: PLC0415

    with workspace_for(target) as workspace:
        entry = capture_server(workspace, mask)
    output.give(
        json,
        lambda: capture_document(entry),
        lambda: capture_view(entry, numbers_of(workspace)),
    )


@app.command("script", cls=FlowingHelp)
def script(
    file: Annotated[
        Path, typer.Argument(help="A file of SQL statements; or - (stdin).", show_default=False)
    ],
    measure: Annotated[
        bool, typer.Option("--measure", help="Run each statement that only reads, once.")
    ] = False,
    mask: options.Mask = False,
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Check and explain each statement of a script; without --measure nothing is run.

    Lines of a client that begin with a backslash are skipped and counted. What the server
    rejects is shown with line and column, and the rest is kept.

    Example: [bold]humble capture script reports.sql[/bold]
    """
    from humble_ledger.views.documents.captures import script_document  # noqa: PLC0415
    from humble_ledger.views.terminal.captures import script_view  # noqa: PLC0415
    from humble_ledger.workflow.capturing.scripts import capture_script  # noqa: PLC0415

    workspace = workspace_for(target, timeout, allow_side_effects)
    with workspace, output.progress() as progress:
        found = capture_script(workspace, file, measure=measure, mask=mask, progress=progress)
    output.give(
        json,
        lambda: script_document(found),
        lambda: script_view(found, numbers_of(workspace)),
    )


@app.command("live", cls=FlowingHelp)
def live(
    seconds: Annotated[
        str,
        typer.Option("--for", help="How long: 60s, 5m; default: until Ctrl-C.", metavar="TIME"),
    ] = "",
    every: Annotated[
        float, typer.Option("--every", help="Milliseconds between two looks.", min=10)
    ] = 200.0,
    follow: Annotated[
        int,
        typer.Option(
            "--follow", help="Follow the statement of one session, by its number.", metavar="ID"
        ),
    ] = 0,
    again: Annotated[
        str,
        typer.Option("--again", help="Show what was seen of a followed plan.", metavar="PLAN"),
    ] = "",
    mask: options.Mask = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Look again and again at what runs: waits, who blocks whom, long transactions.

    Times are estimated from the looks; statements shorter than the pause are mostly missed.
    With --follow it is one statement: its plan and the rows of each step so far where the server
    shows them (MariaDB from 10.9 on), else the server's own counts of how far a command is.

    Example: [bold]humble capture live --for 60s[/bold]
    """
    if follow or again:
        _followed(follow, again, seconds, every, mask, target, json)
        return
    from humble_ledger.core.workload.windows import parse_span  # noqa: PLC0415
    from humble_ledger.views.documents.captures import live_document  # noqa: PLC0415
    from humble_ledger.views.terminal.live import live_view  # noqa: PLC0415
    from humble_ledger.workflow.capturing.live import capture_live  # noqa: PLC0415

    span = parse_span(seconds).total_seconds() if seconds else None
    with workspace_for(target) as workspace, output.progress() as progress:
        found = capture_live(workspace, pause_ms=every, seconds=span, mask=mask, progress=progress)
    output.give(json, lambda: live_document(found), lambda: live_view(found, numbers_of(workspace)))


def _followed(
    follow: int,
    again: str,
    seconds: str,
    every: float,
    mask: bool,
    target: options.Target,
    json: bool,
) -> None:
    from humble_ledger.core.workload.windows import parse_span  # noqa: PLC0415
    from humble_ledger.views.documents.following import followed_document  # noqa: PLC0415
    from humble_ledger.views.terminal.following import followed_view  # noqa: PLC0415
    from humble_ledger.workflow.capturing import following  # noqa: PLC0415

    span = parse_span(seconds).total_seconds() if seconds else None
    with workspace_for(target) as workspace, output.progress() as progress:
        if again:
            found = following.again(workspace, again)
        else:
            found = following.follow(
                workspace, follow, pause_ms=every, seconds=span, mask=mask, progress=progress
            )
    output.give(
        json, lambda: followed_document(found), lambda: followed_view(found, numbers_of(workspace))
    )
