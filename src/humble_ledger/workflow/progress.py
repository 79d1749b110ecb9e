"""How long work tells what it is doing: a function that takes a few words."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str], None]
