"""What a terminal shows, as Markdown for tickets and mails: the same tables and sentences."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.table import Table

from humble_ledger.views.escaping import escaped, escaped_line
from humble_ledger.views.terminal.parts import Hanging
from humble_ledger.views.terminal.text import SafeConsole, Text

_WIDTH = 120  # of what has no form of its own in Markdown, and stands as it would on a terminal


def as_markdown(view: RenderableType) -> str:
    """Tables as tables, labelled lines as a list, sentences as paragraphs, all else as code."""
    return "\n\n".join(part for part in _parts(view) if part.strip()) + "\n"


def _parts(view: RenderableType) -> Iterator[str]:
    if isinstance(view, Group):
        for each in view.renderables:
            yield from _parts(each)
    elif isinstance(view, Padding):
        yield from _parts(view.renderable)
    elif isinstance(view, Table):
        yield _table(view) if view.show_header else _list(view)
    elif isinstance(view, Text | str | Hanging):
        yield plain(str(view))
    else:
        yield _as_shown(view)


def _table(table: Table) -> str:
    columns = [list(column.cells) for column in table.columns]
    heads = [_cell(column.header) or " " for column in table.columns]
    rules = ["---:" if column.justify == "right" else "---" for column in table.columns]
    rows = [heads, rules, *([_cell(c) for c in row] for row in zip(*columns, strict=True))]
    return "\n".join(f"| {' | '.join(row)} |" for row in rows)


def _list(table: Table) -> str:
    labels, values = (list(column.cells) for column in list(table.columns)[:2])
    return "\n".join(
        f"- **{_cell(label)}** {_cell(value)}" for label, value in zip(labels, values, strict=True)
    )


def _cell(content: RenderableType) -> str:
    if isinstance(content, Text | str):
        return plain(escaped_line(" ".join(str(content).split())))
    return plain(" ".join(_shown(content).split()))


def _as_shown(view: RenderableType) -> str:
    text = _shown(view).rstrip()
    fence = "```"
    while fence in text:
        fence += "`"
    return f"{fence}\n{text}\n{fence}"


def _shown(view: RenderableType) -> str:
    console = SafeConsole(
        width=_WIDTH, highlight=False, markup=False, emoji=False, color_system=None
    )
    with console.capture() as captured:
        console.print(view)
    return "\n".join(line.rstrip() for line in captured.get().split("\n"))


def plain(text: str) -> str:
    """Text in which nothing is markup."""
    text = escaped(text)
    for sign in "\\`*_[]|~":
        text = text.replace(sign, f"\\{sign}")
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
