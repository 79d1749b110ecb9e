"""`humble import`: a colleague's bundle put into this ledger."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def import_(
    file: Annotated[Path, typer.Argument(help="A bundle, as humble export writes it.")],
    json: options.Json = False,
) -> None:
    """Put the entries of a bundle into this ledger; what is there already stays as it is.

    Entries get ids of this ledger. Importing again changes nothing.

    Example: [bold]humble import q3.zip[/bold]
    """
    from humble_ledger.views.documents.bundles import import_document  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import import_view  # noqa: PLC0415
    from humble_ledger.workflow.sharing.bundles import import_bundle  # noqa: PLC0415

    with workspace_for() as workspace:
        with output.progress() as progress:
            found = import_bundle(workspace, file, progress)
        output.give(
            json,
            lambda: import_document(found),
            lambda: import_view(found, numbers_of(workspace)),
        )
