"""Reports: the file that was written."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct


class ReportDocument(Struct, frozen=True):
    """A report that was written: ``chapters`` of ``queries`` are told in it."""

    file: str
    bytes: int
    chapters: int
    queries: int
    masked: bool
    kind: Literal["report"] = "report"
    version: Literal[1] = 1
