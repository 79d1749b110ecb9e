"""Where a command's words go: results on stdout, everything else on stderr."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pathlib import Path

    from rich.console import RenderableType

PIPE_WIDTH = 140
FORMATS = ("csv", "md")
_TABLES_AS: list[str] = []  # csv or md, when the command line asks for tables so


def give(as_json: bool, document: Callable[[], Any], view: Callable[[], RenderableType]) -> None:
    """Print a result: its JSON document, its tables in the format asked for, or its view."""
    if _TABLES_AS:
        _give_tables(document, view)
        return
    if as_json:
        import msgspec  # noqa: PLC0415

        from humble_ledger.views.escaping import escaped_json  # noqa: PLC0415

        sys.stdout.write(escaped_json(msgspec.json.encode(document()).decode()) + "\n")
        return
    show(view())


def want_tables(form: str) -> None:
    """Give tables as CSV or Markdown from now on.

    Raises:
        WrongUsage: it is none of the formats.
    """
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    if form not in FORMATS:
        raise WrongUsage(f'Unknown format "{form}".', f"Use one of: {', '.join(FORMATS)}")
    _TABLES_AS[:] = [form]


def _give_tables(document: Callable[[], Any], view: Callable[[], RenderableType]) -> None:
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    if _TABLES_AS == ["md"]:
        from humble_ledger.views.terminal.markdown import as_markdown  # noqa: PLC0415

        sys.stdout.write(as_markdown(view()))
        return
    from humble_ledger.views.exchange.tables import as_csv  # noqa: PLC0415

    text = as_csv(document())
    if not text:
        raise WrongUsage("There is no table in this result.", "See it without  --format csv")
    sys.stdout.write(text)


def show(view: RenderableType, style: str = "", whole_lines: bool = False) -> None:
    """Print something for people; ``whole_lines`` leaves long lines to the terminal."""
    from humble_ledger.views.terminal.text import SafeConsole  # noqa: PLC0415

    # Into a pipe there is no terminal to ask for its width, and no control code belongs.
    width = None if sys.stdout.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    console = SafeConsole(width=width, highlight=False, markup=False, emoji=False)
    with console.capture() as captured:
        console.print(view, style=style, soft_wrap=whole_lines)
    sys.stdout.write("\n".join(line.rstrip() for line in captured.get().split("\n")))
    sys.stdout.flush()


def write(path: Path, content: bytes) -> None:
    """Write a file that the user named.

    Raises:
        UnreadableInput: it cannot be written.
    """
    from humble_ledger.errors import UnreadableInput  # noqa: PLC0415

    try:
        path.write_bytes(content)
    except OSError as error:
        raise UnreadableInput(
            f"{path} cannot be written: {error.strerror}.", "Name another file."
        ) from error


def flush() -> None:
    """Let the reader have what was given so far."""
    sys.stdout.flush()


def announce(words: str) -> None:
    """Say on stderr what is about to be done."""
    from humble_ledger.views.escaping import escaped  # noqa: PLC0415

    sys.stderr.write(f"{escaped(words)}\n")
    sys.stderr.flush()


@contextmanager
def progress() -> Iterator[Callable[[str], None]]:
    """A line of progress on stderr, rewritten in place on a terminal, silent elsewhere."""
    if not sys.stderr.isatty():
        yield lambda _: None
        return
    from humble_ledger.views.terminal.text import SafeConsole  # noqa: PLC0415

    console = SafeConsole(stderr=True, highlight=False, markup=False)
    with console.status("…") as status:
        yield status.update
