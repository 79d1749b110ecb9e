"""`humble report`: the ledger as one HTML file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def report(
    to: Annotated[
        Path, typer.Option("--to", help="The file to write; it needs nothing beside it.")
    ] = Path("report.html"),
    top: Annotated[
        int, typer.Option("--top", help="The heaviest so many queries get a chapter.", min=1)
    ] = 100,
    mask: Annotated[
        bool,
        typer.Option("--mask", help="Leave every literal and value of the statements out."),
    ] = False,
    json: options.Json = False,
) -> None:
    """Write the ledger as one HTML file: for a colleague or a reviewer who has nothing installed.

    The ranking, and each query's way from its capture over plan, findings, remedies and trials to
    the decision. It fetches nothing from anywhere, and opens from disk. No server is asked.

    Example: [bold]humble report --to slow-queries.html --mask[/bold]
    """
    from humble_ledger.views.documents.reports import ReportDocument  # noqa: PLC0415
    from humble_ledger.views.report.page import report_page  # noqa: PLC0415
    from humble_ledger.views.terminal.reports import report_view  # noqa: PLC0415
    from humble_ledger.workflow.reporting.gathering import gather_report  # noqa: PLC0415

    with workspace_for() as workspace:
        numbers = numbers_of(workspace)
        with output.progress() as progress:
            found = gather_report(workspace, top, mask=mask, progress=progress)
            progress("writing the page")
            page = report_page(found, numbers).encode("utf-8", "backslashreplace")
        output.write(to, page)
        output.give(
            json,
            lambda: ReportDocument(str(to), len(page), len(found.chapters), found.ranking.count,
                                   found.masked),
            lambda: report_view(found, str(to), len(page), numbers),
        )  # fmt: skip
