"""`humble queries`: the ranking."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def queries(
    by: Annotated[
        str, typer.Option("--by", help="Rank by total, mean, p95, max or calls.")
    ] = "total",
    top: Annotated[
        int | None, typer.Option("--top", help="Show only the first so many.", min=1)
    ] = None,
    json: options.Json = False,
) -> None:
    """Rank the captured queries: the first is the one to work on.

    Example: [bold]humble queries --by p95 --top 5[/bold]
    """
    from humble_ledger.core.workload.ranking import RankBy, rank  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents import queries_document  # noqa: PLC0415
    from humble_ledger.views.terminal.queries import queries_view  # noqa: PLC0415

    if by not in list(RankBy):
        raise WrongUsage(f"Nothing ranks by «{by}».", f"Say one of: {', '.join(RankBy)}")
    with workspace_for() as workspace:
        seen = [query for query in workspace.ledger.queries.all() if query.durations_ms]
        ranked = rank(seen, RankBy(by))
        output.give(
            json,
            lambda: queries_document(ranked[:top] if top else ranked),
            lambda: queries_view(ranked, numbers_of(workspace), top),
        )
