"""`humble limits`: what statements may take, kept in version control and checked in CI."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.help_text import FlowingHelp, PlainGroup
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from humble_ledger.core.limits.model import CheckOfAll

app = typer.Typer(
    cls=PlainGroup,
    no_args_is_help=True,
    help="Limits of statements, in a file for version control: propose them, hold them in CI.",
)
FILE = "limits.toml"


@app.command("set", cls=FlowingHelp)
def set_(
    queries: Annotated[
        list[str] | None,
        typer.Argument(
            help="Queries by id; without any, all that were captured.",
            metavar="[ID]...",
            show_default=False,
        ),
    ] = None,
    to: Annotated[
        Path, typer.Option("--to", help="The file of limits; new ones go behind those it has.")
    ] = Path(FILE),
    statements: Annotated[
        Path | None,
        typer.Option(
            "--statements",
            help="A folder of .sql files: statements found there are named by file, not by text.",
            metavar="FOLDER",
        ),
    ] = None,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Ask the target for the plans now, not the ledger.")
    ] = False,
    measure: Annotated[
        bool, typer.Option("--measure", help="With --fresh: run the statements, too.")
    ] = False,
    time: Annotated[
        bool,
        typer.Option(
            "--time", help="Limit the time, too: as a ratio to what it took in its trial or plan."
        ),
    ] = False,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Propose limits from the plans and trials of the ledger, and write them into a file.

    Each statement may take twice what it takes now; tables it reads by an index are never to be
    scanned. The file is for people: change what it says as you see fit.

    Example: [bold]humble limits set q1 q3 --statements sql/[/bold]
    """
    from humble_ledger.views.documents.limits import limits_set_document  # noqa: PLC0415
    from humble_ledger.views.terminal.limits import set_view  # noqa: PLC0415
    from humble_ledger.workflow.limiting.file import read_limits  # noqa: PLC0415
    from humble_ledger.workflow.limiting.setting import set_limits  # noqa: PLC0415

    with workspace_for(target, timeout) as workspace:
        known = read_limits(to) if to.exists() else None
        with output.progress() as progress:
            found = set_limits(
                workspace,
                queries or (),
                to,
                known,
                fresh=fresh or measure,
                measure=measure,
                time=time,
                folder=statements,
                progress=progress,
            )
        output.give(
            json,
            lambda: limits_set_document(str(to), found.limited, found.left_out),
            lambda: set_view(str(to), found.limited, found.left_out, numbers_of(workspace)),
        )


@app.command("check", cls=FlowingHelp)
def check(
    file: Annotated[
        Path, typer.Argument(help="The file of limits.", metavar="[FILE]", show_default=False)
    ] = Path(FILE),
    everything: Annotated[
        bool, typer.Option("--all", help="Show the limits that hold, too.")
    ] = False,
    strict: Annotated[
        bool,
        typer.Option(
            "--strict", help="Also end with 1 for statements without limits, or not judged."
        ),
    ] = False,
    junit: Annotated[
        Path | None, typer.Option("--junit", help="Write the outcome as JUnit XML.", metavar="FILE")
    ] = None,
    sarif: Annotated[
        Path | None, typer.Option("--sarif", help="Write what broke as SARIF.", metavar="FILE")
    ] = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Hold the limits against a target: a test database, or a copy without rows (hollow:NAME).

    Statements are planned there, and run only where a limit needs it; nothing is kept. What broke
    is shown with what changed in the plan. Ends with 1 when a limit is broken.

    Example: [bold]humble limits check --target hollow:ci --junit limits.xml[/bold]
    """
    from humble_ledger.views.documents.limits import limits_document  # noqa: PLC0415
    from humble_ledger.views.exchange.junit import junit_of  # noqa: PLC0415
    from humble_ledger.views.exchange.sarif import sarif_of  # noqa: PLC0415
    from humble_ledger.views.terminal.limits import check_view  # noqa: PLC0415
    from humble_ledger.workflow.limiting.checking import check as hold  # noqa: PLC0415
    from humble_ledger.workflow.limiting.file import read_limits  # noqa: PLC0415

    with workspace_for(target, timeout) as workspace:
        limits = read_limits(file)
        with output.progress() as progress:
            found = hold(workspace, limits, progress)
        if junit is not None:
            output.write(junit, junit_of(found))
        if sarif is not None:
            output.write(sarif, sarif_of(found, Path.cwd()).encode())
        output.give(
            json,
            lambda: limits_document(found),
            lambda: check_view(found, numbers_of(workspace), everything),
        )
    _require(found, strict=strict)


def _require(found: CheckOfAll, *, strict: bool) -> None:
    """End with 1 when a limit is broken."""
    from humble_ledger.core.limits.model import Outcome  # noqa: PLC0415
    from humble_ledger.errors import CheckFailed  # noqa: PLC0415

    if found.broken:
        names = [each.limited.name for each in found.broken]
        more = f" and {len(names) - 3} more" if len(names) > 3 else ""
        raise CheckFailed(
            f"{len(names)} of {len(found.statements)} statements break their limits: "
            f"{', '.join(names[:3])}{more}."
        )
    unknown = sum(c.outcome is Outcome.UNKNOWN for each in found.statements for c in each.checks)
    if strict and (unknown or found.unlimited):
        raise CheckFailed(
            f"{len(found.unlimited)} statements have no limits, and {unknown} limits could not be "
            "judged (--strict)."
        )
