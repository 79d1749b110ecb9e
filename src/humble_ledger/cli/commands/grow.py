"""`humble grow TABLE=FACTOR…`: what becomes of the queries while tables grow."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def grow(
    tables: Annotated[
        list[str],
        typer.Argument(
            help="Tables with how far they grow, as reading=100x.",
            metavar="TABLE=FACTOR...",
            show_default=False,
        ),
    ],
    query: Annotated[
        list[str] | None,
        typer.Option("--query", help="Only this query, or SQL; repeatable.", metavar="WHAT"),
    ] = None,
    longer_history: Annotated[
        bool,
        typer.Option(
            "--longer-history",
            help="The rows that are added are older ones: times and numbers that advance with the "
            "rows reach further back.",
        ),
    ] = False,
    to: Annotated[
        Path | None,
        typer.Option("--to", help="Draw cost against size into this file (.svg, .png, .pdf)."),
    ] = None,
    allow_side_effects: options.AllowSideEffects = None,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Let tables grow, and see what each query would cost and where its plan flips.

    The planner is asked on a copy of the target; nothing is built, and nothing is inserted.

    Example: [bold]humble grow reading=100x[/bold]
    """
    from humble_ledger.views.documents.growth import growth_document  # noqa: PLC0415
    from humble_ledger.views.terminal.growth import growth_view  # noqa: PLC0415
    from humble_ledger.workflow.supposing.growing import grow as study  # noqa: PLC0415

    with (
        workspace_for(target, may_call=allow_side_effects) as workspace,
        output.progress() as progress,
    ):
        found = study(workspace, tables, query or (), progress, longer_history=longer_history)
    if to is not None:
        from humble_ledger.cli.drawing import drawn  # noqa: PLC0415
        from humble_ledger.views.figures.growth_figure import draw_growth  # noqa: PLC0415

        drawn(to, lambda: draw_growth(found, to))
    output.give(
        json, lambda: growth_document(found), lambda: growth_view(found, numbers_of(workspace))
    )
