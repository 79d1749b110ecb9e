"""The command reference: `python -m humble_ledger.cli.reference docs/commands.md`."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from pathlib import Path
from textwrap import fill
from typing import Any

import typer

from humble_ledger.cli.app import ORDER, build

_MARKUP = re.compile(r"\[/?bold\]")
WIDTH = 96
HEAD = """# Commands

Made from the program itself; do not edit. Every command takes `--help`.
"""


def reference(app: typer.Typer) -> str:
    """All commands with their words, options and an example, as Markdown."""
    group: Any = typer.main.get_command(app)
    parts = [HEAD]
    for name in ORDER:
        command = group.commands[name]
        for words, each in _leaves(name, command):
            parts.append(_section(words, each))
    return "\n".join(parts)


def _leaves(words: str, command: Any) -> Iterator[tuple[str, Any]]:
    inner = getattr(command, "commands", None)
    if not inner:
        yield words, command
        return
    for name, each in inner.items():
        yield from _leaves(f"{words} {name}", each)


def _section(words: str, command: Any) -> str:
    paragraphs = _MARKUP.sub("`", command.help or "").split("\n\n")
    text = "\n\n".join(fill(each, WIDTH, break_on_hyphens=False) for each in paragraphs)
    lines = [f"## humble {words}", "", text.strip(), ""]
    for parameter in command.params:
        if parameter.name == "help":
            continue
        lines.append(f"- {_named(parameter)}: {_MARKUP.sub('', parameter.help or '')}")
    return "\n".join(lines) + "\n"


def _named(parameter: Any) -> str:
    if parameter.param_type_name == "argument":
        return f"`{_metavar(parameter)}`"
    takes = "" if parameter.is_flag else f" {_metavar(parameter)}"
    return f"`{', '.join(parameter.opts)}{takes}`"


def _metavar(parameter: Any) -> str:
    return str(parameter.metavar or parameter.name.strip("_").upper())


def main() -> None:
    """Write the reference to the file given."""
    Path(sys.argv[1]).write_text(reference(build()), encoding="utf-8")


if __name__ == "__main__":
    main()
