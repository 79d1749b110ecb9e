"""Text for the terminal in which nothing acts, whatever it was made of; and its widths.

Views take `Text` from here, and the console that prints them escapes plain strings, so that no
view needs to think of it. A test holds that none takes Rich's own.
"""

from __future__ import annotations

from typing import Any

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text as RichText

from humble_ledger.views.escaping import escaped


class Text(RichText):
    """Rich's text, escaped as it is made."""

    def __init__(self, text: str = "", *arguments: Any, **options: Any) -> None:
        super().__init__(escaped(text), *arguments, **options)

    def append(self, text: RichText | str, style: Any = None) -> Text:
        """Add text to the end."""
        super().append(escaped(text) if isinstance(text, str) else text, style)
        return self

    def __add__(self, other: Any) -> RichText:
        """Both together; Rich's own sum would be a text of its own kind."""
        return super().__add__(escaped(other) if isinstance(other, str) else other)


class SafeConsole(Console):
    """A console that escapes the plain strings it is given, as the cells of tables."""

    def render_str(self, text: str, **options: Any) -> RichText:
        """A string as text."""
        return super().render_str(escaped(text), **options)


def cells(text: str) -> int:
    """How many columns of a terminal a text takes, once it is escaped."""
    return cell_len(escaped(text))


def left(text: str, width: int) -> str:
    """The text with spaces behind it up to a width in columns."""
    return text + " " * (width - cells(text))


def right(text: str, width: int) -> str:
    """The text with spaces before it up to a width in columns."""
    return " " * (width - cells(text)) + text


def wrapped(text: str, width: int) -> list[str]:
    """The lines of a text that fit a width in columns; long words are cut."""
    lines: list[str] = []
    for paragraph in escaped(text).split("\n"):
        line = ""
        for word in paragraph.split():
            rest = word
            if line and cell_len(line) + 1 + cell_len(rest) <= width:
                line += f" {rest}"
                continue
            if line:
                lines.append(line)
            while cell_len(rest) > width:
                taken = _fitting(rest, width)
                lines.append(rest[:taken])
                rest = rest[taken:]
            line = rest
        if line:
            lines.append(line)
    return lines or [""]


def _fitting(word: str, width: int) -> int:
    """How many characters of a word fit, one at least."""
    room = 0
    for place, character in enumerate(word):
        room += cell_len(character)
        if room > width and place:
            return place
    return len(word)
