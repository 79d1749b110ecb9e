"""`humble queries`: the ranking."""

from __future__ import annotations

from typing import Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for


def queries(
    by: Annotated[
        str,
        typer.Option(
            "--by",
            help="Rank by total, mean, p95, max, calls, rows, reads, cost (estimated) or growth "
            "(against the capture before).",
        ),
    ] = "total",
    top: Annotated[
        int | None,
        typer.Option(
            "--top", help="Number of queries shown; default: 100, and all with --json.", min=1
        ),
    ] = None,
    since: Annotated[
        str, typer.Option("--since", help="Runs from here on: 2026-03-01, or 2h ago: 2h.")
    ] = "",
    until: Annotated[str, typer.Option("--until", help="Runs before this moment.")] = "",
    user: Annotated[str, typer.Option("--user", help="Runs of this database user.")] = "",
    application: Annotated[
        str, typer.Option("--application", help="Runs of this application.")
    ] = "",
    source: Annotated[
        str,
        typer.Option(
            "--source",
            help="Captured from log, server, script, live or application; default: last.",
        ),
    ] = "",
    between: Annotated[
        tuple[str, str],
        typer.Option("--between", help="Only these captures: from k1 to k4.", metavar="K1 K4"),
    ] = ("", ""),
    by_code: Annotated[
        bool,
        typer.Option("--by-code", help="The lines of the application that send them, not queries."),
    ] = False,
    by_tag: Annotated[
        str,
        typer.Option(
            "--by-tag",
            help="The values of a tag that statements carry in a comment: /*app='checkout'*/.",
            metavar="NAME",
        ),
    ] = "",
    where: Annotated[
        str,
        typer.Option(
            "--where", help="Only runs whose statements carry this tag.", metavar="NAME=VALUE"
        ),
    ] = "",
    table: Annotated[str, typer.Option("--table", help="Queries that name this table.")] = "",
    json: options.Json = False,
) -> None:
    """Rank the captured queries: the first is the one to work on.

    Example: [bold]humble queries --by p95 --since 2h --table reading[/bold]
    """
    from humble_ledger.core.workload.ranking import RankBy  # noqa: PLC0415
    from humble_ledger.core.workload.windows import RunChoice, parse_moment  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.queries import queries_document  # noqa: PLC0415
    from humble_ledger.views.terminal.queries import queries_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.ranking import (  # noqa: PLC0415
        FIRST_PAGE,
        SOURCES,
        captures_between,
        ranking,
    )
    from humble_ledger.workflow.reading.tags import ranking_where  # noqa: PLC0415

    if by not in list(RankBy):
        raise WrongUsage(f'Nothing ranks by "{by}".', f"Use one of: {', '.join(RankBy)}")
    if source and source not in SOURCES:
        raise WrongUsage(f'Unknown source "{source}".', f"Use one of: {', '.join(SOURCES)}")
    others = (since, until, user, application, table, between[0])
    if sum(map(bool, (by_code, by_tag, where))) > 1 or (
        (by_code or by_tag or where) and (any(others) or (not where and by != "total"))
    ):
        raise WrongUsage(
            "Lines of code and tags are ranked over all runs.",
            "Use --by-code, --by-tag or --where alone, or with --source and --top.",
        )
    if by_code:
        _by_code(source, top, json)
        return
    if by_tag:
        _by_tag(by_tag.lower(), source, top, json)
        return
    choice = RunChoice(
        parse_moment(since) if since else None,
        parse_moment(until) if until else None,
        user,
        application,
        source,
        captures_between(*between) if between[0] else None,
    )
    with workspace_for() as workspace:
        most = top if top is not None or json else FIRST_PAGE
        if where:
            found = ranking_where(workspace, where, RankBy(by), source, most)
        else:
            found = ranking(workspace, RankBy(by), choice, table, most)
        output.give(
            json,
            lambda: queries_document(found),
            lambda: queries_view(found, numbers_of(workspace)),
        )


def _by_code(source: str, top: int | None, json: bool) -> None:
    from humble_ledger.views.documents.queries import code_document  # noqa: PLC0415
    from humble_ledger.views.terminal.code import code_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.code import code_ranking  # noqa: PLC0415

    with workspace_for() as workspace:
        found = code_ranking(workspace, source, top if top or json else _FIRST_PLACES)
        output.give(
            json, lambda: code_document(found), lambda: code_view(found, numbers_of(workspace))
        )


def _by_tag(name: str, source: str, top: int | None, json: bool) -> None:
    from humble_ledger.views.documents.queries import tags_document  # noqa: PLC0415
    from humble_ledger.views.terminal.tags import tags_view  # noqa: PLC0415
    from humble_ledger.workflow.reading.tags import tag_ranking  # noqa: PLC0415

    with workspace_for() as workspace:
        found = tag_ranking(workspace, name, source, top if top or json else _FIRST_PLACES)
        output.give(
            json, lambda: tags_document(found), lambda: tags_view(found, numbers_of(workspace))
        )


_FIRST_PLACES = 20
