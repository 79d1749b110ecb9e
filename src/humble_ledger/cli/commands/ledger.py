"""`humble ledger check|backup|merge|prune`: the ledger's own care."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.help_text import FlowingHelp, PlainGroup
from humble_ledger.cli.opening import numbers_of, workspace_for

app = typer.Typer(
    cls=PlainGroup,
    no_args_is_help=True,
    help="Look after the ledger: check its chains, back it up, merge another, make room.",
)


@app.command("check", cls=FlowingHelp)
def check(json: options.Json = False) -> None:
    """Look at every entry: is each chain complete, is everything there that is named?

    Nothing is changed. Ends with 1 when something is wrong.

    Example: [bold]humble ledger check[/bold]
    """
    from humble_ledger.errors import CheckFailed  # noqa: PLC0415
    from humble_ledger.views.documents.care import ledger_check_document  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import check_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.care import check_ledger  # noqa: PLC0415

    with workspace_for() as workspace:
        with output.progress() as progress:
            found = check_ledger(workspace, progress)
        output.give(
            json,
            lambda: ledger_check_document(found),
            lambda: check_view(found, numbers_of(workspace)),
        )
    if found.faults:
        raise CheckFailed(
            f"{len(found.faults)} faults in the ledger {found.place}.",
            "Keep it as it is, and go on with a backup of before.",
        )


@app.command("backup", cls=FlowingHelp)
def backup(
    to: Annotated[
        str,
        typer.Argument(help="The file to write, or a server's URL; no ledger may be there yet."),
    ],
    json: options.Json = False,
) -> None:
    """Write a copy of the ledger; others may go on writing to it meanwhile.

    The copy is the same ledger, with the same ids: a way to move a file to a server, or back.

    Example: [bold]humble ledger backup monday.ledger[/bold]
    """
    from humble_ledger.views.documents.care import LedgerBackupDocument  # noqa: PLC0415
    from humble_ledger.views.terminal.parts import labelled  # noqa: PLC0415
    from humble_ledger.workflow.sharing.care import back_up  # noqa: PLC0415

    with workspace_for() as workspace:
        place, size = back_up(workspace, to)
        numbers = numbers_of(workspace)
    output.give(
        json,
        lambda: LedgerBackupDocument(place, size),
        lambda: labelled(("backup", f"{place}, {numbers.size(size)}")),
    )


@app.command("merge", cls=FlowingHelp)
def merge(
    other: Annotated[str, typer.Argument(help="Another ledger's file or URL; it is only read.")],
    json: options.Json = False,
) -> None:
    """Put all entries of another ledger into this one; merging again changes nothing.

    Example: [bold]humble ledger merge ../ines/humble.ledger[/bold]
    """
    from humble_ledger.views.documents.bundles import import_document  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import import_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.bundles import merge as put_together  # noqa: PLC0415

    with workspace_for() as workspace:
        with output.progress() as progress:
            found = put_together(workspace, other, progress)
        output.give(
            json,
            lambda: import_document(found),
            lambda: import_view(found, numbers_of(workspace)),
        )


@app.command("prune", cls=FlowingHelp)
def prune(
    older: Annotated[str, typer.Option("--older", help="What is older goes: 90d, or 2026-03-01.")],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what would go.")] = False,
    json: options.Json = False,
) -> None:
    """Remove old captures and plans, but never what a decision rests on.

    Example: [bold]humble ledger prune --older 90d --dry-run[/bold]
    """
    from humble_ledger.views.documents.care import ledger_pruned_document  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import pruned_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.care import prune_ledger  # noqa: PLC0415

    with workspace_for() as workspace:
        found = prune_ledger(workspace, older, only_ask=dry_run)
        output.give(
            json,
            lambda: ledger_pruned_document(found),
            lambda: pruned_view(found, numbers_of(workspace)),
        )
