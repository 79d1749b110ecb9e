"""`humble init`: a ledger and a target for this folder."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from humble_ledger.cli import options, output


def init(
    url: Annotated[
        str,
        typer.Argument(
            help="postgresql://user@host:port/database, service=name, the path of an SQLite file, "
            "recorded:FILE, or nothing: the environment (PGHOST, PGDATABASE, …).",
            show_default=False,
        ),
    ] = "",
    name: Annotated[str, typer.Option("--name", help="What to call the target.")] = "main",
    role: Annotated[
        str,
        typer.Option("--role", help="scratch, staging or production: how careful to be with it."),
    ] = "staging",
    mask: Annotated[
        bool,
        typer.Option("--mask", help="Let no literal and no value into this folder's ledger, ever."),
    ] = False,
    ledger: Annotated[
        str,
        typer.Option(
            "--ledger",
            metavar="FILE|URL",
            help="Where the ledger is kept: a file, or postgresql://user@host/database, which a "
            "team shares; default: humble.ledger here.",
            show_default=False,
        ),
    ] = "",
    json: options.Json = False,
) -> None:
    """Make humble.toml and the ledger here, and check the target.

    Example: [bold]humble init postgresql://me@localhost/shop --role scratch[/bold]
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415
    from humble_ledger.views.documents.targets import EngineInfo, TargetDocument  # noqa: PLC0415
    from humble_ledger.views.terminal.parts import labelled  # noqa: PLC0415
    from humble_ledger.workflow.begin import begin  # noqa: PLC0415
    from humble_ledger.workflow.configuration import TargetRole, shown_place  # noqa: PLC0415

    try:
        wanted = TargetRole(role)
    except ValueError as error:
        raise WrongUsage(
            f'Unknown role "{role}".', "Use  --role scratch, staging or production"
        ) from error
    begun = begin(Path.cwd(), url, name, wanted, mask, ledger)
    target = begun.target
    output.give(
        json,
        lambda: TargetDocument(
            target.name,
            target.url,
            EngineInfo(target.engine, target.version),
            target.role,
            begun.database,
            begun.user,
            str(begun.configuration),
            str(begun.ledger),
        ),
        lambda: labelled(
            (
                "target",
                f"{target.name}: {target.engine} {target.version}, database {begun.database} "
                f"as {begun.user}, role {target.role}",
            ),
            ("configuration", shown_place(begun.configuration, Path.cwd())),
            (
                "ledger",
                shown_place(begun.ledger, Path.cwd()) + (", new" if begun.new_ledger else ""),
            ),
            ("not stored", _elsewhere(begun.not_kept, begun.ledger_password)),
            ("mask", "no literal goes into the ledger" if begun.mask else ""),
            ("next", _next(target.url)),
        ),
    )


def _next(url: str) -> str:
    """What to do with the new target."""
    if url.startswith("recorded:"):
        return "humble queries, then  humble diagnose q1"
    return "humble capture log FILE, or  humble plan 'SELECT …'"


def _elsewhere(names: tuple[str, ...], ledger_password: bool) -> str:
    """Where what is not stored can be kept instead."""
    places = {"password": "in ~/.pgpass or PGPASSWORD", "options": "in PGOPTIONS"}
    told = [
        f"{name}: keep it {places.get(name, 'in a service file or the environment')}"
        for name in names
    ]
    if ledger_password:
        told.append("the ledger's password: keep it in ~/.pgpass, or the whole in HUMBLE_LEDGER")
    return "; ".join(told)
