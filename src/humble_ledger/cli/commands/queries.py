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
    since: Annotated[
        str, typer.Option("--since", help="Runs from here on: 2026-03-01, or 2h ago: 2h.")
    ] = "",
    until: Annotated[str, typer.Option("--until", help="Runs before this moment.")] = "",
    user: Annotated[str, typer.Option("--user", help="Runs of this database user.")] = "",
    application: Annotated[
        str, typer.Option("--application", help="Runs of this application.")
    ] = "",
    table: Annotated[str, typer.Option("--table", help="Queries that name this table.")] = "",
    json: options.Json = False,
) -> None:
    """Rank the captured queries: the first is the one to work on.

    Example: [bold]humble queries --by p95 --since 2h --table reading[/bold]
    """
    from humble_ledger.core.workload.ranking import RankBy, rank  # noqa: PLC0415
    from humble_ledger.core.workload.windows import (  # noqa: PLC0415
        RunChoice,
        names_table,
        parse_moment,
    )
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents import queries_document  # noqa: PLC0415
    from humble_ledger.views.terminal.queries import queries_view  # noqa: PLC0415

    if by not in list(RankBy):
        raise WrongUsage(f"Nothing ranks by «{by}».", f"Say one of: {', '.join(RankBy)}")
    choice = RunChoice(
        parse_moment(since) if since else None,
        parse_moment(until) if until else None,
        user,
        application,
    )
    with workspace_for() as workspace:
        seen = [q for q in workspace.ledger.queries.all(choice=choice) if q.durations_ms]
        if table:
            seen = [query for query in seen if names_table(query.text, table)]
        ranked = rank(seen, RankBy(by))
        output.give(
            json,
            lambda: queries_document(ranked[:top] if top else ranked),
            lambda: queries_view(
                ranked, numbers_of(workspace), top, chosen=bool(table) or not choice.everything
            ),
        )
