"""What went wrong."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct


class ErrorDocument(Struct, frozen=True):
    """What went wrong."""

    code: str
    message: str
    hint: str
    kind: Literal["error"] = "error"
    version: Literal[1] = 1
