"""`humble note`: words of people, kept with an entry."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import output
from humble_ledger.cli.opening import workspace_for


def note(
    id_: Annotated[str, typer.Argument(help="An entry: q3, p7, t1 …", metavar="ID")],
    text: Annotated[str, typer.Argument(help="What there is to say.", metavar="TEXT")],
) -> None:
    """Write a note to an entry; it is shown with it, and in reports and bundles.

    Example: [bold]humble note q3 "only slow since the new crew planner"[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.terminal.bundles import notes_view  # noqa: PLC0415

    if not text.strip():
        raise WrongUsage("The note is empty.", f'Write for instance  humble note {id_} "…"')
    with workspace_for() as workspace:
        workspace.ledger.require(id_)
        output.show(notes_view([workspace.ledger.notes.add(id_, text.strip())]))
