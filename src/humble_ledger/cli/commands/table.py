"""`humble table NAME` and `humble table NAME.COLUMN`: what the server knows of them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    pass

Name = Annotated[
    str,
    typer.Argument(help="A table, or a table's column: reading, reading.buoy_id.", metavar="NAME"),
]


def table(
    name: Name,
    value: Annotated[
        list[str] | None,
        typer.Option(
            "--value",
            help="Of a column: where this value falls, with = or < <= > >= before it.",
            metavar="VALUE",
        ),
    ] = None,
    of: Annotated[
        str,
        typer.Option("--of", help="Of a column: the values that this query or statement asks for."),
    ] = "",
    count: Annotated[
        bool,
        typer.Option("--count", help="Of a column: read the table and count the truth beside it."),
    ] = False,
    to: Annotated[
        Path | None,
        typer.Option("--to", help="Of a column: draw it into this file, .svg, .png or .pdf."),
    ] = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Show a table's size, indexes, use and age; or how the values of a column spread.

    Nothing is read but the catalogue and its statistics, unless --count is given.

    Example: [bold]humble table reading.taken_at --value '>= 2026-06-29' --count[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.tables import (  # noqa: PLC0415
        column_document,
        table_document,
    )
    from humble_ledger.views.terminal.tables import column_view, table_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.tables import column_report, table_report  # noqa: PLC0415

    with workspace_for(target, timeout) as workspace, output.progress() as progress:
        numbers = numbers_of(workspace)
        found, column = workspace.session.find_column(name)
        if not column:
            if value or of or count or to:
                raise WrongUsage(
                    f"{name} is a table; --value, --of, --count and --to are for a column.",
                    f"Name one of its columns:  humble table {name}.COLUMN",
                )
            report = table_report(workspace, found)
            output.give(json, lambda: table_document(report), lambda: table_view(report, numbers))
            return
        progress("counting" if count else "reading statistics")
        spread = column_report(workspace, found, column, values=value or (), what=of, count=count)
    if to is not None:
        from humble_ledger.cli.drawing import drawn  # noqa: PLC0415
        from humble_ledger.views.figures.column_figure import draw_column  # noqa: PLC0415

        drawn(to, lambda: draw_column(spread, numbers, to))
        if not json:
            output.show(f"figure  {to}")
            return
    output.give(json, lambda: column_document(spread), lambda: column_view(spread, numbers))
