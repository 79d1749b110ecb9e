"""How long work tells what it is doing, how much is left, and that it was asked to stop."""

from __future__ import annotations

import contextlib
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from types import FrameType
from typing import TypeVar

Progress = Callable[[str], None]
T = TypeVar("T")

_SURE_AFTER_S = 2.0  # before, the rest is anybody's guess


@dataclass(slots=True)
class Stop:
    """Whether somebody asked to stop: what is done so far is then brought to its end."""

    asked: bool = False


@contextlib.contextmanager
def stopping(progress: Progress) -> Iterator[Stop]:
    """Take the first Ctrl-C as a wish to end with what is done; the second one ends at once.

    For work whose every step is short, and that looks at ``asked`` between them.
    """
    stop = Stop()
    if threading.current_thread() is not threading.main_thread():
        yield stop
        return
    before = signal.getsignal(signal.SIGINT)
    if before is signal.SIG_IGN:
        yield stop
        return

    def heard(number: int, frame: FrameType | None) -> None:
        signal.signal(signal.SIGINT, before)
        stop.asked = True
        progress("ending with what is done so far; Ctrl-C again leaves at once")

    signal.signal(signal.SIGINT, heard)
    try:
        yield stop
    finally:
        signal.signal(signal.SIGINT, before)


def counted(
    items: Sequence[T], words: Callable[[T], str], progress: Progress, stop: Stop
) -> Iterator[T]:
    """The items, each told with its place and the time that is left; none after a stop."""
    began = time.monotonic()
    for place, item in enumerate(items):
        if stop.asked:
            return
        took = time.monotonic() - began
        left = ""
        if place and took > _SURE_AFTER_S:
            left = f", about {took / place * (len(items) - place):,.0f} s left"
        progress(f"{words(item)} ({place + 1} of {len(items)}{left})")
        yield item
