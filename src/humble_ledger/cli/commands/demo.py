"""`humble demo`: the whole story on a server of our own."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer


def demo(
    stay: Annotated[
        bool, typer.Option("--stay", help="Leave the server running, for exploring, until Ctrl-C.")
    ] = False,
    folder: Annotated[
        Path, typer.Option("--folder", help="Where ledger, log and migrations go.")
    ] = Path("humble-demo"),
    target: Annotated[
        str | None,
        typer.Option(
            "--target",
            help="Tell it on an empty database of yours instead of a server of our own.",
            metavar="URL",
            show_default=False,
        ),
    ] = None,
    engine: Annotated[
        str, typer.Option("--engine", help="The server: postgresql or mariadb.")
    ] = "postgresql",
    binaries: Annotated[
        Path | None,
        typer.Option(
            "--binaries", help="The folder of PostgreSQL's server programs.", show_default=False
        ),
    ] = None,
) -> None:
    """Start a server with an invented database and tell the whole loop in about a minute.

    Example: [bold]humble demo --stay[/bold]
    """
    from humble_ledger.cli import output  # noqa: PLC0415
    from humble_ledger.cli.entry import run  # noqa: PLC0415
    from humble_ledger.demo.story import tell  # noqa: PLC0415

    tell(folder, run, output.show, stay=stay, target=target, binaries=binaries, engine=engine)
