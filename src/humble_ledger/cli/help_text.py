"""Commands whose help flows into the width of the terminal, wherever its source breaks lines."""

from __future__ import annotations

from typing import Any

from typer.core import TyperArgument, TyperCommand, TyperGroup, TyperOption

# What an option takes, where its own name does not tell.
_TAKES = {
    "by": "ORDER", "change_at": "SECONDS", "clients": "COUNT", "columns": "NAMES",
    "effect": "PERCENT", "every": "MS", "find": "TEXT", "flow": "QUANTITY", "focus": "STEP",
    "index": "INDEX", "last": "COUNT", "of": "WHAT", "pairs": "COUNT", "prefix": "FORMAT",
    "reason": "TEXT", "remedy": "ID", "require": "VERDICT", "shown_as": "FORM", "since": "MOMENT",
    "speed": "FACTOR", "timeout": "SECONDS", "to": "FILE", "top": "COUNT", "types": "TYPES",
    "until": "MOMENT", "values": "FREQUENCY",
}  # fmt: skip


class FlowingHelp(TyperCommand):
    """A command with each paragraph of its help as one line, for the terminal to break.

    Its options show what they take in a word of ours, flags nothing.
    """

    def __init__(self, *args: Any, **options: Any) -> None:
        paragraphs = (options.get("help") or "").split("\n\n")
        options["help"] = "\n\n".join(" ".join(each.split()) for each in paragraphs)
        super().__init__(*args, **options)
        for parameter in self.params:
            if isinstance(parameter, TyperArgument):
                # Its name tells what it takes; the type would only say how Python holds it.
                parameter.display_type_rich = lambda ctx: None  # type: ignore[method-assign]
        for option in self.params:
            if isinstance(option, TyperOption) and option.metavar is None and option.name:
                named = _TAKES.get(option.name, option.name.upper())
                option.metavar = "" if option.is_flag else named

    def get_help_option(self, ctx: Any) -> Any:
        """The option --help, a flag as well."""
        option = super().get_help_option(ctx)
        if option is not None:
            option.metavar = ""
        return option


class PlainGroup(TyperGroup):
    """Commands listed in plain text, under their headings.

    Typer's own help with frames takes an eighth of a second to import.
    """

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """Write the help of the group as its parser does, without frames."""
        super(TyperGroup, self).format_help(ctx, formatter)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write a line for each command, and each heading once."""
        names = self.list_commands(ctx)
        widest = max(map(len, names))
        rows: dict[str, list[tuple[str, str]]] = {}
        for name in names:
            command = self.commands[name]
            first = (command.help or "").strip().split("\n\n")[0]
            heading = getattr(command, "rich_help_panel", None) or "Commands"
            row = (name.ljust(widest), " ".join(first.split()))
            rows.setdefault(heading, []).append(row)
        for heading, listed in rows.items():
            with formatter.section(heading):
                formatter.write_dl(listed)
