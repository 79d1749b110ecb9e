"""A recording that was made: what is in it, and what the target did not answer."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.results.recordings import Recording
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging, labelled
from humble_ledger.views.terminal.text import Text


def recording_view(found: Recording, numbers: Numbers) -> RenderableType:
    """The file, what it holds, and the next step."""
    held = f"{numbers.count(found.answers, 'answers')} about " + numbers.count(
        len(found.statements), "statements"
    )
    if found.trials:
        held += f", {numbers.count(found.trials, 'trials')}"
    lines: list[RenderableType] = [
        labelled(
            ("recording", found.path),
            ("holds", held),
            ("masked", "no literal and no value is in it" if found.masked else
             "no: statements, values of columns and times are in it; --mask leaves them out"),
            ("next", f"humble init recorded:{found.path}"),
        )
    ]  # fmt: skip
    if found.refused:
        lines += [Text(""), Text("Not answered:", style="bold")]
        lines += [Hanging("  ", f"{what}: {why}") for what, why in found.refused]
    return Group(*lines)
