"""`humble watch`: capture and audit again and again, in the foreground."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from humble_ledger.core.audits.watching import WatchEvent
    from humble_ledger.views.numbers import Numbers


def watch(
    every: Annotated[
        str, typer.Option("--every", help="The time between two looks: 60s, 5m.", metavar="TIME")
    ] = "60s",
    for_: Annotated[
        str, typer.Option("--for", help="How long; default: until Ctrl-C.", metavar="TIME")
    ] = "",
    log: Annotated[
        list[Path] | None,
        typer.Option(
            "--log",
            help="A log to read on at each look, in place of the server's statistics; repeatable.",
            metavar="FILE",
        ),
    ] = None,
    prefix: Annotated[
        str | None,
        typer.Option(
            "--prefix", help="How its lines begin, as for capture log.", show_default=False
        ),
    ] = None,
    live: Annotated[
        bool,
        typer.Option("--live", help="Sample what runs between the looks: who waits for whom."),
    ] = False,
    settle: Annotated[
        str,
        typer.Option(
            "--settle",
            help="A kept trial: take its change back when it does not deliver.",
            metavar="TRIAL",
        ),
    ] = "",
    on_event: Annotated[
        str,
        typer.Option(
            "--on-event",
            help="A command to run on each event; it gets the event as JSON on its standard input.",
            metavar="COMMAND",
        ),
    ] = "",
    on_production: Annotated[
        bool,
        typer.Option("--on-production", help="Take back on a production server, too."),
    ] = False,
    to: Annotated[
        Path | None,
        typer.Option("--to", help="Draw calls and times look by look into .svg, .png or .pdf."),
    ] = None,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Capture and audit again and again; tell each change once, as it comes.

    At each look the server's statistics (or a log) are read on, plans are read anew, and what has
    become slower, turned, or fallen behind its promise is told, with the next command. What was
    said is not said again by the next watch. With --settle a kept change is judged by what came
    after it, and undone by its backward migration when it does harm; that ends with 1.

    Example: [bold]humble watch --every 60s --settle t3 --for 30m[/bold]
    """
    from humble_ledger.core.audits.watching import What  # noqa: PLC0415
    from humble_ledger.core.workload.windows import parse_span  # noqa: PLC0415
    from humble_ledger.errors import CheckFailed  # noqa: PLC0415
    from humble_ledger.workflow.watching.watch import Asked  # noqa: PLC0415
    from humble_ledger.workflow.watching.watch import watch as look  # noqa: PLC0415

    asked = Asked(
        parse_span(every).total_seconds(),
        parse_span(for_).total_seconds() if for_ else None,
        tuple(log or ()),
        prefix,
        settle,
        on_production,
        live,
    )
    with workspace_for(target) as workspace:
        found = look(workspace, asked, _teller(json, on_event, numbers_of(workspace)))
    if to is not None:
        from humble_ledger.cli.drawing import drawn  # noqa: PLC0415
        from humble_ledger.views.figures.watch_figure import draw_watch  # noqa: PLC0415

        drawn(to, lambda: draw_watch(found, to))
    taken = next((each for each in found.events if each.what is What.TAKEN_BACK), None)
    if taken is not None:
        raise CheckFailed(f"{settle} was taken back.", f"See it:  humble show {settle}")


def _teller(as_json: bool, on_event: str, numbers: Numbers) -> Callable[[WatchEvent], None]:
    """What is done with each event: a line for people or programs, and the user's command."""
    import msgspec  # noqa: PLC0415

    from humble_ledger.views.documents.watching import watch_event_document  # noqa: PLC0415
    from humble_ledger.views.terminal.watching import event_view  # noqa: PLC0415

    def tell(event: WatchEvent) -> None:
        output.give(
            as_json, lambda: watch_event_document(event), lambda: event_view(event, numbers)
        )
        output.flush()
        if on_event:
            import subprocess  # noqa: PLC0415

            document = msgspec.json.encode(watch_event_document(event))
            # The user's own command, in the user's own shell; nothing of the event is in it.
            done = subprocess.run(
                on_event, shell=True, input=document, stdout=sys.stderr.fileno(), check=False
            )
            if done.returncode:
                output.announce(f"--on-event ended with {done.returncode}.")

    return tell
