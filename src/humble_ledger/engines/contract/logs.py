"""How servers of one kind write their log of statements, found by recognition."""

from __future__ import annotations

from typing import Protocol

from humble_ledger.capture.files import Cutter
from humble_ledger.capture.log_rows import BlockRows


class LogFormat(Protocol):
    """One form of a log, read block by block, each block perhaps in another process.

    ``fallback`` tells that a file which nothing recognises is read as this. ``prefix_setting`` is
    the server's setting that says how a line begins, "" where all begin alike.
    """

    engine: str
    name: str
    fallback: bool
    prefix_setting: str
    cutter: Cutter

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """Whether a file that begins so is such a log; ``prefix`` is what the user or the server
        says that lines begin with.
        """
        ...

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """The prefix to read by, and what is to be told when the one given does not fit."""
        ...

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block; with ``columns`` its runs as such, where that is quicker."""
        ...
