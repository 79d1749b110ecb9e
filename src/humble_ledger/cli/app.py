"""The Typer program: every command with its panel, in the order of the loop."""

from __future__ import annotations

import importlib
import keyword
import sys
from typing import Annotated, Any

import typer

from humble_ledger import __version__
from humble_ledger.cli.help_text import FlowingHelp, PlainGroup

COMMANDS = {
    "Begin": ("demo", "init", "preflight"),
    "Capture": ("capture",),
    "Read": ("queries", "show", "plan", "routes", "compare", "table", "glossary"),
    "Diagnose": ("diagnose",),
    "Propose": ("propose", "suppose", "grow", "hollow"),
    "Verify": ("trial", "replay", "settle", "tidy"),
    "Keep": (
        "history",
        "note",
        "audit",
        "watch",
        "limits",
        "report",
        "export",
        "import",
        "record",
        "ledger",
    ),
}
"""Under each heading of the help its commands, in the order of the loop. Each has a module of
its name in `cli.commands`, with a function of its name or, as a group of commands, an `app`."""

ORDER = tuple(name for names in COMMANDS.values() for name in names)


class _InOrderOfTheLoop(PlainGroup):
    """Help lists commands as the loop goes, groups of commands among them, under headings."""

    def list_commands(self, ctx: Any) -> list[str]:
        known = super().list_commands(ctx)
        return sorted(known, key=lambda name: ORDER.index(name) if name in ORDER else len(ORDER))


def build(only: str | None = None) -> typer.Typer:
    """The program with all its commands, or with one of them.

    Whoever runs one command need not wait until the others are read and made: that takes longer
    than most commands do.
    """
    app = typer.Typer(
        cls=_InOrderOfTheLoop,
        no_args_is_help=True,
        add_completion=False,
        rich_markup_mode="rich",
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 120},
    )
    app.callback()(_root)
    for heading, names in COMMANDS.items():
        for name in names:
            if only in (None, name):
                _add(app, name, heading)
    return app


def _add(app: typer.Typer, name: str, heading: str) -> None:
    word = f"{name}_" if keyword.iskeyword(name) else name
    module = importlib.import_module(f"humble_ledger.cli.commands.{word}")
    group = getattr(module, "app", None)
    if group is not None:
        app.add_typer(group, name=name, rich_help_panel=heading)
    else:
        command = getattr(module, word)
        app.command(name, cls=FlowingHelp, rich_help_panel=heading)(command)


def _version(wanted: bool) -> None:
    if wanted:
        sys.stdout.write(f"humble {__version__}\n")
        raise typer.Exit


def _root(
    version: Annotated[
        bool, typer.Option("--version", help="Print the version.", callback=_version, is_eager=True)
    ] = False,
) -> None:
    """Find what is slow, read how the server runs it, try one change fairly, keep the evidence.

    Begin with "humble demo", or with "humble init URL" for a database of your own. Every command
    also gives its first table as --format csv, and what it shows as --format md.
    """
