"""Drawing a figure into a file that the user named."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path


def drawn(to: Path, draw: Callable[[], None]) -> None:
    """Draw, and say in the user's terms why it cannot be.

    Raises:
        WrongUsage: there is nothing to draw, or the file's ending is of no known format.
        UnreadableInput: the file cannot be written.
    """
    from humble_ledger.errors import UnreadableInput, WrongUsage  # noqa: PLC0415

    try:
        draw()
    except ValueError as error:
        raise WrongUsage(
            f"A figure cannot be drawn into {to}: {error}.",
            "Let the file end in .svg, .png or .pdf; what is not known has no figure.",
        ) from error
    except OSError as error:
        raise UnreadableInput(
            f"{to} cannot be written: {error.strerror}.", "Name another file with  --to"
        ) from error
