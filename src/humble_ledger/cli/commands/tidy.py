"""`humble tidy`: after a trial that was broken off."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import workspace_for

if TYPE_CHECKING:
    from collections.abc import Sequence

    from humble_ledger.workflow.tidying import Tidied


def tidy(
    look: Annotated[bool, typer.Option("--look", help="Only say what there is.")] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Also trials begun on another machine.")
    ] = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Find and remove what a broken-off trial left on a target, and close the trial.

    Example: [bold]humble tidy[/bold]
    """
    from rich.console import Group  # noqa: PLC0415
    from rich.text import Text  # noqa: PLC0415

    from humble_ledger.views.documents.targets import TidiedRow, TidyDocument  # noqa: PLC0415
    from humble_ledger.workflow.tidying import tidy as clean  # noqa: PLC0415

    with workspace_for(target) as workspace:
        done = clean(workspace, remove=not look, force=force)
    output.give(
        json,
        lambda: TidyDocument(
            [TidiedRow(d.trial.id, list(d.found.words()), d.removed, d.runs) for d in done]
        ),
        lambda: Group(*(Text(line) for line in _lines(done))),
    )


def _lines(done: Sequence[Tidied]) -> list[str]:
    if not done:
        return ["Every trial was closed properly; there is nothing to tidy."]
    return [_line(each) for each in done]


def _line(each: Tidied) -> str:
    found = ", ".join(each.found.words())
    if each.runs:
        return f"{each.trial.id} is running now (process {each.trial.process}); left alone."
    if each.runs is None and not each.removed:
        return (
            f"{each.trial.id} was begun on another machine ({each.trial.process}); "
            "if it is dead, say  humble tidy --force"
        )
    if not found:
        return f"{each.trial.id} was broken off; nothing of it is left on the target" + (
            ", now closed." if each.removed else "."
        )
    verb = "removed" if each.removed else "would remove"
    return f"{each.trial.id} was broken off; {verb} {found}."
