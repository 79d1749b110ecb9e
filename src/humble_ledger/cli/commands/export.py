"""`humble export`: entries of the ledger as a bundle for a colleague."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from humble_ledger.workflow.workspace import Workspace


def export(
    ids: Annotated[
        list[str] | None,
        typer.Argument(
            help="Entries by id, with all that is about their queries; without any, everything.",
            metavar="[ID]...",
            show_default=False,
        ),
    ] = None,
    to: Annotated[
        Path | None,
        typer.Option(
            "--to", help="The file to write; default: ledger.zip, or q3.sql.", show_default=False
        ),
    ] = None,
    reproduce: Annotated[
        bool,
        typer.Option(
            "--reproduce",
            help="One query as SQL: its tables without rows, their statistics, the statement.",
        ),
    ] = False,
    mask: Annotated[
        bool, typer.Option("--mask", help="Leave every literal and value of the statements out.")
    ] = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Write entries into a bundle, for a colleague who goes on there: humble import.

    A bundle is JSON Lines in a zip, documented, and readable without this program. With
    --reproduce it is one file of SQL instead, from which the plan of a query is made again.

    Example: [bold]humble export q3 --to q3.zip --mask[/bold]
    """
    from humble_ledger.views.documents.bundles import export_document  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import export_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.bundles import export as write  # noqa: PLC0415

    with workspace_for(target) as workspace:
        if reproduce:
            _reproduce(workspace, ids or [], to, mask=mask, json=json)
            return
        place = to or Path("ledger.zip")
        with output.progress() as progress:
            found = write(workspace, ids or (), place, mask=mask, progress=progress)
        output.give(
            json,
            lambda: export_document(found),
            lambda: export_view(found, numbers_of(workspace)),
        )


def _reproduce(
    workspace: Workspace, ids: list[str], to: Path | None, *, mask: bool, json: bool
) -> None:
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.bundles import ExportDocument  # noqa: PLC0415
    from humble_ledger.views.terminal.parts import labelled  # noqa: PLC0415
    from humble_ledger.workflow.sharing.reproducing import reproduce  # noqa: PLC0415

    if len(ids) != 1 or mask:
        why = "statistics hold values of the data" if mask else "a plan is that of one statement"
        raise WrongUsage(
            f"--reproduce takes one query, and no --mask: {why}.", "As in  export q3 --reproduce"
        )
    place = to or Path(f"{ids[0]}.sql")
    size = reproduce(workspace, ids[0], place)
    numbers = numbers_of(workspace)
    output.give(
        json,
        lambda: ExportDocument(str(place), size, False, {"queries": 1}),
        lambda: labelled(
            ("reproduction", f"{place}, {numbers.size(size)}"),
            ("in it", "schema and statistics of its tables (which hold values), and the statement"),
            ("next", "its first lines tell how to make the plan again"),
        ),
    )
