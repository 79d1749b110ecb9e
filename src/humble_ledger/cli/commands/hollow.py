"""`humble hollow build|list|drop`: the copies of targets that the planner is asked on."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from humble_ledger.cli import options, output
from humble_ledger.cli.help_text import FlowingHelp, PlainGroup
from humble_ledger.cli.opening import numbers_of, workspace_for

if TYPE_CHECKING:
    from collections.abc import Sequence

    from humble_ledger.core.results.suppositions import KeptHollow
    from humble_ledger.views.numbers import Numbers

app = typer.Typer(
    cls=PlainGroup,
    no_args_is_help=True,
    help="Copies of targets, on which the planner is asked; made when needed.",
)


@app.command("build", cls=FlowingHelp)
def build(
    from_: Annotated[
        list[Path] | None,
        typer.Option(
            "--from",
            help="A dump of the schema or of statistics, in place of a target; repeatable.",
            metavar="FILE",
        ),
    ] = None,
    name: Annotated[
        str,
        typer.Option(
            "--name", help="What the copy of files is called: --target hollow:NAME.", metavar="NAME"
        ),
    ] = "",
    settings: Annotated[
        list[str] | None,
        typer.Option(
            "--set",
            help="A planner's setting of the server that the files are from; repeatable.",
            metavar="NAME=VALUE",
        ),
    ] = None,
    target: options.Target = None,
    json: options.Json = False,
) -> None:
    """Make the copy of the target, and say what it lacks.

    Commands that need it make it themselves, and again when the target has changed. With --from it
    is made from files that somebody hands over, and is a target itself: no server is asked.

    Example: [bold]humble hollow build[/bold], or
    [bold]humble hollow build --name shop --from schema.sql --from stats.sql[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.suppositions import HollowBuiltDocument  # noqa: PLC0415
    from humble_ledger.views.terminal.text import Text  # noqa: PLC0415
    from humble_ledger.workflow.supposing.hollows import build as make  # noqa: PLC0415
    from humble_ledger.workflow.supposing.hollows import build_from  # noqa: PLC0415

    if bool(from_) != bool(name) or (settings and not from_) or (from_ and target):
        raise WrongUsage(
            "A copy of files needs --from and --name, and no target; --set goes with them.",
            "For example:  humble hollow build --name shop --from schema.sql --from stats.sql",
        )
    with workspace_for(target) as workspace, output.progress() as progress:
        if from_:
            made = build_from(from_, name, settings or (), progress)
        else:
            made = make(workspace, progress)
    numbers = numbers_of(workspace)
    took = numbers.ms(made.took_ms)
    lines = [f"A copy of {made.target} is there, in {took}."]
    if not made.kept:
        lines = [
            f"A copy of {made.target} can be made, in {took}; it is not kept, as "
            "what is masked, in production, or of a role that nobody told stays on its server."
        ]
    if from_:
        lines = [
            f"A copy without rows was made from the files, in {took}. "
            f"Ask it as any target:  humble propose --target {made.target}"
        ]
    lines += [f"About it: {note}." for note in made.notes] or ["All was carried over."]
    if made.holds_rows:
        lines.append("Rows like a table's own are made when a statement first names it.")
    output.give(
        json,
        lambda: HollowBuiltDocument(made.target, round(made.took_ms, 1), list(made.notes)),
        lambda: Text("\n".join(lines)),
    )


@app.command("list", cls=FlowingHelp)
def list_(json: options.Json = False) -> None:
    """List the copies that lie on this machine.

    Example: [bold]humble hollow list[/bold]
    """
    from rich.console import Group  # noqa: PLC0415

    from humble_ledger.views.documents.suppositions import hollows_document  # noqa: PLC0415
    from humble_ledger.views.terminal.text import Text  # noqa: PLC0415
    from humble_ledger.workflow.supposing.hollows import kept  # noqa: PLC0415

    found = kept()
    with workspace_for(None) as workspace:
        numbers = numbers_of(workspace)
    output.give(
        json,
        lambda: hollows_document(found),
        lambda: Group(*(Text(line) for line in _lines(found, numbers))),
    )


@app.command("drop", cls=FlowingHelp)
def drop(
    names: Annotated[
        list[str] | None,
        typer.Argument(help="Copies of files, by name; without, all copies.", show_default=False),
    ] = None,
    json: options.Json = False,
) -> None:
    """Remove copies from this machine; they hold values of its data.

    Example: [bold]humble hollow drop[/bold], or [bold]humble hollow drop shop[/bold]
    """
    from humble_ledger.views.documents.suppositions import HollowsDroppedDocument  # noqa: PLC0415
    from humble_ledger.views.terminal.text import Text  # noqa: PLC0415
    from humble_ledger.workflow.supposing.hollows import drop as remove  # noqa: PLC0415

    count, left = remove(names or ())
    words = f"{count} {'copy' if count == 1 else 'copies'} removed." if count else "There was none."
    if left:
        words += f" In use now, and left alone: {', '.join(left)}."
    output.give(json, lambda: HollowsDroppedDocument(count, list(left)), lambda: Text(words))


def _lines(found: Sequence[KeptHollow], numbers: Numbers) -> list[str]:
    if not found:
        return ["No copy lies on this machine; commands that need one make it."]
    lines = [
        f"{each.target}, made {each.made_at.replace('T', ' ')[:19]} for {each.engine} "
        f"{each.version}" + (f"; {numbers.count(len(each.notes), 'notes')}" if each.notes else "")
        for each in found
    ]
    for folder, size in {each.folder: each.disk_bytes for each in found}.items():
        lines.append(f"{folder} takes {numbers.size(size)} of the disk.")
    return lines
