"""`humble export`: entries of the ledger as a bundle for a colleague."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def export(
    ids: Annotated[
        list[str] | None,
        typer.Argument(
            help="Entries by id, with all that is about their queries; without any, everything.",
            metavar="[ID]...",
            show_default=False,
        ),
    ] = None,
    to: Annotated[Path, typer.Option("--to", help="The file to write.")] = Path("ledger.zip"),
    mask: Annotated[
        bool, typer.Option("--mask", help="Leave every literal and value of the statements out.")
    ] = False,
    json: options.Json = False,
) -> None:
    """Write entries into a bundle, for a colleague who goes on there: humble import.

    A bundle is JSON Lines in a zip, documented, and readable without this program.

    Example: [bold]humble export q3 --to q3.zip --mask[/bold]
    """
    from humble_ledger.views.documents.bundles import export_document  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import export_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.bundles import export as write  # noqa: PLC0415

    with workspace_for() as workspace:
        with output.progress() as progress:
            found = write(workspace, ids or (), to, mask=mask, progress=progress)
        output.give(
            json,
            lambda: export_document(found),
            lambda: export_view(found, numbers_of(workspace)),
        )
