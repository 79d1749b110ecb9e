"""A watch on a terminal: one line for each event."""

from __future__ import annotations

from rich.console import Group, RenderableType

from humble_ledger.core.audits.findings import Kind
from humble_ledger.core.audits.watching import WatchEvent, What
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.terminal.parts import Hanging
from humble_ledger.views.terminal.text import Text
from humble_ledger.views.wording import in_words

_STYLES = {What.APPEARED: "red", What.UNREACHABLE: "red", What.TAKEN_BACK: "yellow",
           What.GONE: "green", What.DELIVERS: "green"}  # fmt: skip


def _style(event: WatchEvent) -> str:
    good = event.finding is not None and (event.finding.good or event.finding.kind is Kind.FASTER)
    return "green" if good else _STYLES.get(event.what, "")


def event_view(event: WatchEvent, numbers: Numbers) -> RenderableType:
    """When, what, and the next command."""
    name = event.finding.kind.value if event.finding is not None else event.what.value
    head = f"{event.at[11:19]}  {name:<11} "
    lines: list[RenderableType] = [
        Hanging(" " * len(head), in_words(event.words, numbers), _style(event), head)
    ]
    if event.finding is not None and event.finding.next:
        lines.append(Text(f"{' ' * len(head)}next: {event.finding.next}", style="bright_black"))
    return Group(*lines)
