"""`humble compare A [B]`: two plans held against each other."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def compare(
    one: Annotated[
        str,
        typer.Argument(
            help="p1, q3 (its newest plan), a saved plan, SQL; alone: t1, or q3's last two.",
            metavar="A",
            show_default=False,
        ),
    ],
    other: Annotated[str, typer.Argument(help="The other one.", metavar="B")] = "",
    between: Annotated[
        tuple[str, str],
        typer.Option("--between", help="A query as captures K1 and K4 found it.", metavar="K1 K4"),
    ] = ("", ""),
    elsewhere: Annotated[
        str,
        typer.Option(
            "--elsewhere",
            help="Hold it against its plan on this other target.",
            metavar="NAME|URL",
        ),
    ] = "",
    allow_side_effects: options.AllowSideEffects = None,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Hold two plans against each other: which steps stayed, moved, were replaced.

    Example: [bold]humble compare p1 p5[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.comparisons import comparison_document  # noqa: PLC0415
    from humble_ledger.views.terminal.comparison import comparison_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.comparing import (  # noqa: PLC0415
        compare_captures,
        compare_plans,
        compare_targets,
    )

    if bool(other) + bool(between[0]) + bool(elsewhere) > 1:
        raise WrongUsage(
            "B, --between and --elsewhere exclude each other.",
            "Name what A is to be compared with.",
        )
    with workspace_for(target, may_call=allow_side_effects) as workspace:
        if between[0]:
            found = compare_captures(workspace, one, *between)
        elif elsewhere:
            found = compare_targets(workspace, one, elsewhere)
        else:
            found = compare_plans(workspace, one, other)
    output.give(
        json,
        lambda: comparison_document(found),
        lambda: comparison_view(found, numbers_of(workspace)),
    )
