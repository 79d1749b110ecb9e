"""Pieces that several terminal views share."""

from __future__ import annotations

from rich.console import Console, ConsoleOptions, RenderResult
from rich.measure import Measurement
from rich.table import Table

from humble_ledger.core.statements.filling import fill
from humble_ledger.views.terminal.text import Text, cells, wrapped

BAR = "▏▎▍▌▋▊▉█"


def plain_table(*columns: tuple[str, str], title: str = "") -> Table:
    """A table without a frame: (heading, justification); headings stay on one line."""
    table = Table(
        box=None, pad_edge=False, padding=(0, 2, 0, 0), title=title or None, title_justify="left",
        header_style="bright_black",
    )  # fmt: skip
    for heading, justify in columns:
        numeric = justify == "right"
        table.add_column(
            heading,
            justify="right" if numeric else "left",
            no_wrap=numeric or justify == "fixed",
            overflow="fold",
        )
    return table


class Hanging:
    """Text behind a guide, wrapped with the guide repeated before each further line.

    ``first`` stands before the first line in the guide's place, and is as wide.
    """

    def __init__(self, guide: str, text: str, style: str = "", first: str = "") -> None:
        self._guide, self._text, self._style = guide, text, style
        self._first = first or guide

    def __str__(self) -> str:
        """The text on one line, behind what stands before its first one."""
        return f"{self._first}{self._text}".strip()

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        least = len(self._guide) + 24
        return Measurement(least, max(least, len(self._guide) + cells(self._text)))

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        width = max(options.max_width - len(self._guide), 10)
        for place, line in enumerate(wrapped(self._text, width)):
            text = (self._guide if place else self._first) + line
            yield Text(text, style=self._style, no_wrap=True, overflow="ellipsis")


def last_column_gives_way(table: Table) -> Table:
    """The last column takes what room is left and is cut; the others keep their widths."""
    table.expand = True
    last = table.columns[-1]
    last.ratio, last.no_wrap, last.overflow = 1, True, "ellipsis"
    return table


def bar(share: float, width: int) -> str:
    """A bar of ``width`` characters for the share 1, in eighths of a character."""
    eighths = round(max(0.0, min(1.0, share)) * width * 8)
    if share > 0 and eighths == 0:
        eighths = 1
    full, rest = divmod(eighths, 8)
    return "█" * full + (BAR[rest - 1] if rest else "")


def labelled(*pairs: tuple[str, str]) -> Table:
    """Lines of "label  value", the labels dim; pairs with an empty value are left out."""
    table = Table.grid(padding=(0, 2, 0, 0))
    table.add_column(style="bright_black", no_wrap=True)
    table.add_column(overflow="fold")
    for label, value in pairs:
        if value:
            table.add_row(Text(label), Text(value))
    return table


def statement_text(sql: str, values: tuple[str | None, ...]) -> str:
    """A statement as it can be pasted and run: its values filled in, a semicolon behind."""
    return fill(sql, values).rstrip().rstrip(";") + ";"
