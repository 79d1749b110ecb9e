"""`humble suppose [WHAT…]`: what the planner would do if something were there, gone, or set."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def suppose(
    whats: options.Whats = None,
    index: Annotated[
        list[str] | None,
        typer.Option(
            "--index",
            help='An index that is not there: "reading (sensor_id)"; repeatable.',
            metavar="TEXT",
        ),
    ] = None,
    without_index: Annotated[
        list[str] | None,
        typer.Option(
            "--without-index", help="An index supposed to be gone; repeatable.", metavar="NAME"
        ),
    ] = None,
    settings: Annotated[
        list[str] | None,
        typer.Option("--set", help="A setting for the session; repeatable.", metavar="NAME=VALUE"),
    ] = None,
    remedy: Annotated[
        list[str] | None,
        typer.Option("--remedy", help="A proposed remedy, as r1; repeatable.", metavar="ID"),
    ] = None,
    rows: Annotated[
        list[str] | None,
        typer.Option(
            "--rows",
            help="A table with more rows of the same kind, as reading=100x; repeatable.",
            metavar="TABLE=FACTOR",
        ),
    ] = None,
    statistics: Annotated[
        list[str] | None,
        typer.Option(
            "--statistics",
            help='Statistics of columns together: "alert (code, crew)"; repeatable.',
            metavar="TEXT",
        ),
    ] = None,
    as_: Annotated[
        str,
        typer.Option(
            "--as", help="compare: the two plans of one query, step by step.", metavar="FORM"
        ),
    ] = "",
    allow_side_effects: options.AllowSideEffects = None,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Ask the planner what if: an index, one gone, a setting, statistics, more rows.

    Nothing is built. The target's planner is asked on a copy that has its schema, statistics and
    sizes, and no row. Without a WHAT, all captured queries are planned.

    Example: [bold]humble suppose q1 --index "reading (sensor_id)"[/bold]
    """
    from humble_ledger.core.results.plans import PlanComparison  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.suppositions import supposition_document  # noqa: PLC0415
    from humble_ledger.views.terminal.comparison import comparison_view  # noqa: PLC0415
    from humble_ledger.views.terminal.suppositions import supposition_view  # noqa: PLC0415
    from humble_ledger.workflow.supposing.suppose import Supposed, entries_of  # noqa: PLC0415
    from humble_ledger.workflow.supposing.suppose import suppose as ask  # noqa: PLC0415

    if as_ not in ("", "compare"):
        raise WrongUsage(f'Unknown form "{as_}".', "Use --as compare, or leave it out.")
    if as_ and len(whats or ()) != 1:
        raise WrongUsage("Plans are compared for one query.", "Name it, as in  humble suppose q1")
    supposed = Supposed(
        index or (),
        without_index or (),
        settings or (),
        remedy or (),
        rows or (),
        statistics or (),
    )
    with (
        workspace_for(target, timeout, allow_side_effects) as workspace,
        output.progress() as progress,
    ):
        found = ask(workspace, whats or (), supposed, progress)
    numbers = numbers_of(workspace)
    if as_ and not json:
        (one,) = found.queries
        before, after = entries_of(one)
        output.show(comparison_view(PlanComparison(before, after, one.comparison), numbers))
        return
    output.give(json, lambda: supposition_document(found), lambda: supposition_view(found, numbers))
