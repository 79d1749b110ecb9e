"""What mail programs, chats, tickets and terminals do to a text."""

from __future__ import annotations

import textwrap
from collections.abc import Callable


def quoted(text: str) -> str:
    return "\n".join(f"> {line}" for line in text.splitlines())


def quoted_twice(text: str) -> str:
    return "\n".join(f"> > {line}" for line in text.splitlines())


def numbered(text: str) -> str:
    return "\n".join(f"{n:4}  {line}" for n, line in enumerate(text.splitlines(), 1))


def numbered_with_colon(text: str) -> str:
    return "\n".join(f"{n:3}: {line}" for n, line in enumerate(text.splitlines(), 12))


def unbreakable(text: str) -> str:
    return text.replace(" ", "\u00a0")


def smart(text: str) -> str:
    opened = False
    found = []
    for letter in text:
        if letter == "'":
            found.append("\u2019" if opened else "\u2018")
            opened = not opened
        else:
            found.append(letter)
    return "".join(found).replace("->", "\u2192")


def fenced(text: str) -> str:
    return f"Here is the plan:\n\n```sql\n{text}\n```\nAny idea?"


def indented(text: str) -> str:
    return textwrap.indent(text, "        ")


def escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def invisible(text: str) -> str:
    return "\ufeff" + text.replace("  ", " \u200b ")


def wrapped(text: str) -> str:
    found = []
    for line in text.splitlines():
        parts = textwrap.wrap(
            line, 76, drop_whitespace=True, break_long_words=False, break_on_hyphens=False
        )
        found += [line] if len(line) <= 76 or not parts else _as_it_was(line, parts)
    return "\n".join(found)


def _as_it_was(line: str, parts: list[str]) -> list[str]:
    blank = line[: len(line) - len(line.lstrip())]
    first = parts[0] if parts[0].startswith(blank) else blank + parts[0].lstrip()
    return [first, *parts[1:]]


WAYS: dict[str, Callable[[str], str]] = {
    each.__name__: each
    for each in (
        quoted, quoted_twice, numbered, numbered_with_colon, unbreakable, smart, fenced, indented,
        escaped, invisible, wrapped,
    )
}  # fmt: skip
