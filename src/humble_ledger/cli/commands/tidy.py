"""`humble tidy`: after a trial or a replay that was broken off."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.opening import workspace_for

if TYPE_CHECKING:
    from collections.abc import Sequence

    from humble_ledger.workflow.settling.tidying import Tidied


def tidy(
    look: Annotated[bool, typer.Option("--look", help="Only say what there is.")] = False,
    force: Annotated[
        bool, typer.Option("--force", help="Also what was begun on another machine.")
    ] = False,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Find and remove what a broken-off trial or replay left on a target, and close it.

    Example: [bold]humble tidy[/bold]
    """
    from rich.console import Group  # noqa: PLC0415

    from humble_ledger.views.documents.targets import TidiedRow, TidyDocument  # noqa: PLC0415
    from humble_ledger.views.terminal.text import Text  # noqa: PLC0415
    from humble_ledger.workflow.settling.tidying import tidy as clean  # noqa: PLC0415

    with workspace_for(target) as workspace:
        done = clean(workspace, remove=not look, force=force)
    output.give(
        json,
        lambda: TidyDocument(
            [TidiedRow(d.entry.id, list(d.words()), d.removed, d.runs) for d in done]
        ),
        lambda: Group(
            # A statement is copied whole: the terminal may break it, a line end may not.
            *(Text(line, no_wrap=line.startswith(" "), overflow="ignore") for line in _lines(done))
        ),
    )


def _lines(done: Sequence[Tidied]) -> list[str]:
    if not done:
        return ["Every trial and replay was closed properly; there is nothing to tidy."]
    return [line for each in done for line in (_line(each), *_undone(each))]


def _line(each: Tidied) -> str:
    if each.runs:
        return f"{each.entry.id} is running now (process {each.entry.process}); left alone."
    if each.runs is None and not each.removed:
        return (
            f"{each.entry.id} was begun on another machine ({each.entry.process}); "
            "if it is dead, use  humble tidy --force"
        )
    if not each.words():
        return f"{each.entry.id} was broken off; nothing of it is left on the target" + (
            ", now closed." if each.removed else "."
        )
    if each.failed:
        return f"{each.entry.id} was broken off; could not be undone: {'; '.join(each.failed)}."
    if not each.found:
        return f"{each.entry.id} was broken off:"
    verb = "removed" if each.removed else "would remove"
    return f"{each.entry.id} was broken off; {verb} {', '.join(each.found.words())}."


def _undone(each: Tidied) -> list[str]:
    """The statements that undo a change: a line for each, so that it can be copied."""
    if each.failed or each.runs or (each.runs is None and not each.removed):
        return []
    verb = "ran" if each.removed else "would run"
    return [f"  {verb}  {statement.rstrip(';')};" for statement in each.undoings]
