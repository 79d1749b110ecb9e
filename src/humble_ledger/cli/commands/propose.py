"""`humble propose [WHAT…]`: changes that should help, with predictions."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from humble_ledger.core.remedies.model import RemedyType


def propose(
    whats: options.Whats = None,
    top: Annotated[
        int | None, typer.Option("--top", help="At most so many remedies.", min=1)
    ] = None,
    types: Annotated[
        list[str] | None,
        typer.Option(
            "--type", help="Only index, rewrite, statistics, setting or removal; repeatable."
        ),
    ] = None,
    sql: Annotated[
        bool, typer.Option("--sql", help="Give a script for review in place of the table.")
    ] = False,
    timeout: options.Timeout = options.DEFAULT_TIMEOUT,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Propose indexes, rewrites, statistics, settings, removals, with predictions; builds nothing.

    Without a WHAT it proposes for all captured queries and for the schema.

    Example: [bold]humble propose q3[/bold]
    """
    from humble_ledger.views.documents.remedies import remedies_document  # noqa: PLC0415
    from humble_ledger.views.terminal.remedies import (  # noqa: PLC0415
        remedies_sql,
        remedies_view,
    )
    from humble_ledger.workflow.proposing import propose as find  # noqa: PLC0415

    wanted = _types(types or [])
    with workspace_for(target, timeout) as workspace, output.progress() as progress:
        entries = find(workspace, whats or (), progress, wanted)
    shown = entries[:top] if top is not None else entries
    if sql and not json:
        output.show(remedies_sql(shown), whole_lines=True)
        return
    output.give(
        json,
        lambda: remedies_document(shown),
        lambda: remedies_view(entries, numbers_of(workspace), top),
    )


def _types(words: list[str]) -> tuple[RemedyType, ...]:
    from humble_ledger.core.remedies.model import RemedyType  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    unknown = [word for word in words if word not in list(RemedyType)]
    if unknown:
        raise WrongUsage(
            f"«{unknown[0]}» is no type of remedy that is proposed.",
            f"Say one of: {', '.join(RemedyType)}",
        )
    return tuple(RemedyType(word) for word in words) or tuple(RemedyType)
