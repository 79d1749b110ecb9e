"""Commands whose help flows into the width of the terminal, wherever its source breaks lines."""

from __future__ import annotations

from typing import Any

from typer.core import TyperCommand


class FlowingHelp(TyperCommand):
    """A command with each paragraph of its help as one line, for the terminal to break."""

    def __init__(self, *args: Any, **options: Any) -> None:
        paragraphs = (options.get("help") or "").split("\n\n")
        options["help"] = "\n\n".join(" ".join(each.split()) for each in paragraphs)
        super().__init__(*args, **options)
