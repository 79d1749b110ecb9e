"""The Typer program: every command with its panel, in the order of the loop."""

from __future__ import annotations

import sys
from typing import Annotated, Any

import typer
from typer.core import TyperGroup

from humble_ledger import __version__
from humble_ledger.cli.commands import (
    audit,
    capture,
    compare,
    demo,
    diagnose,
    glossary,
    grow,
    history,
    hollow,
    init,
    plan,
    preflight,
    propose,
    queries,
    replay,
    routes,
    settle,
    show,
    suppose,
    table,
    tidy,
    trial,
)
from humble_ledger.cli.help_text import FlowingHelp

BEGIN, CAPTURE, READ = "Begin", "Capture", "Read"
ORDER = (
    "demo", "init", "preflight", "capture", "queries", "show", "plan", "routes", "compare",
    "table", "glossary", "diagnose", "propose", "suppose", "grow", "hollow",
    "trial", "replay", "settle", "tidy", "history", "audit",
)  # fmt: skip
DIAGNOSE, PROPOSE, VERIFY, KEEP = "Diagnose", "Propose", "Verify", "Keep"


class _InOrderOfTheLoop(TyperGroup):
    """Help lists commands as the loop goes, groups of commands among them, under headings.

    It is plain text: Typer's own help with frames takes an eighth of a second to import.
    """

    def format_help(self, ctx: Any, formatter: Any) -> None:
        super(TyperGroup, self).format_help(ctx, formatter)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        rows: dict[str, list[tuple[str, str]]] = {}
        for name in self.list_commands(ctx):
            command = self.commands[name]
            first = (command.help or "").strip().split("\n\n")[0]
            row = (name.ljust(max(map(len, ORDER))), " ".join(first.split()))
            rows.setdefault(getattr(command, "rich_help_panel", None) or KEEP, []).append(row)
        for heading, listed in rows.items():
            with formatter.section(heading):
                formatter.write_dl(listed)

    def list_commands(self, ctx: Any) -> list[str]:
        known = super().list_commands(ctx)
        return sorted(known, key=lambda name: ORDER.index(name) if name in ORDER else len(ORDER))


def build() -> typer.Typer:
    """The program with all its commands."""
    app = typer.Typer(
        cls=_InOrderOfTheLoop,
        no_args_is_help=True,
        add_completion=False,
        rich_markup_mode="rich",
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 120},
    )
    app.callback()(_root)
    app.command("demo", cls=FlowingHelp, rich_help_panel=BEGIN)(demo.demo)
    app.command("init", cls=FlowingHelp, rich_help_panel=BEGIN)(init.init)
    app.command("preflight", cls=FlowingHelp, rich_help_panel=BEGIN)(preflight.preflight)
    app.add_typer(capture.app, name="capture", rich_help_panel=CAPTURE)
    app.command("queries", cls=FlowingHelp, rich_help_panel=READ)(queries.queries)
    app.command("show", cls=FlowingHelp, rich_help_panel=READ)(show.show)
    app.command("plan", cls=FlowingHelp, rich_help_panel=READ)(plan.plan)
    app.command("routes", cls=FlowingHelp, rich_help_panel=READ)(routes.routes)
    app.command("compare", cls=FlowingHelp, rich_help_panel=READ)(compare.compare)
    app.command("table", cls=FlowingHelp, rich_help_panel=READ)(table.table)
    app.command("glossary", cls=FlowingHelp, rich_help_panel=READ)(glossary.glossary)
    app.command("diagnose", cls=FlowingHelp, rich_help_panel=DIAGNOSE)(diagnose.diagnose)
    app.command("propose", cls=FlowingHelp, rich_help_panel=PROPOSE)(propose.propose)
    app.command("suppose", cls=FlowingHelp, rich_help_panel=PROPOSE)(suppose.suppose)
    app.command("grow", cls=FlowingHelp, rich_help_panel=PROPOSE)(grow.grow)
    app.add_typer(hollow.app, name="hollow", rich_help_panel=PROPOSE)
    app.command("trial", cls=FlowingHelp, rich_help_panel=VERIFY)(trial.trial)
    app.command("replay", cls=FlowingHelp, rich_help_panel=VERIFY)(replay.replay)
    app.command("settle", cls=FlowingHelp, rich_help_panel=VERIFY)(settle.settle)
    app.command("tidy", cls=FlowingHelp, rich_help_panel=VERIFY)(tidy.tidy)
    app.command("history", cls=FlowingHelp, rich_help_panel=KEEP)(history.history)
    app.command("audit", cls=FlowingHelp, rich_help_panel=KEEP)(audit.audit)
    return app


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

    Begin with "humble demo", or with "humble init URL" for a database of your own.
    """
