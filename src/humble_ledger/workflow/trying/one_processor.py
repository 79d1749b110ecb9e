"""Both sides of a trial on one processor, where the server's processes are ours to place.

Processors of one machine differ from moment to moment: one shares its core with a busy
neighbour and the other does not, and a server process stays on its processor for seconds. So
two connections that do the same differ by a tenth or more, and go on doing so. On the same
processor, one right after the other, they do not: measured with statements of 0.2 to 25 ms on
a busy virtual machine, the ratio of a thing to itself varied by 7 to 22 % (standard deviation)
from pair to pair with each process where the system had put it, by 1 to 5 % on one processor.
"""

from __future__ import annotations

import os
import random
from collections.abc import Sequence


class OneProcessor:
    """Keeps some processes together, on another processor at each move."""

    def __init__(self, processes: Sequence[int]) -> None:
        """``processes`` of this machine; with none, or where it is not allowed, it does nothing."""
        self._processes = tuple(processes)
        self._allowed: tuple[int, ...] = ()
        if not self._processes or not hasattr(os, "sched_setaffinity"):
            return
        try:
            common = set.intersection(*(os.sched_getaffinity(p) for p in self._processes))
        except OSError:
            return
        self._allowed = tuple(sorted(common))
        self.move()

    @property
    def holds(self) -> bool:
        """Whether the processes are kept on one processor."""
        return bool(self._allowed)

    def move(self) -> None:
        """All of them to one processor, chosen anew; where that fails, all are let go."""
        if not self._allowed:
            return
        chosen = {random.choice(self._allowed)}
        try:
            for process in self._processes:
                os.sched_setaffinity(process, chosen)
        except OSError:
            self.release()

    def release(self) -> None:
        """Let each of them run where it could before."""
        allowed, self._allowed = self._allowed, ()
        for process in self._processes:
            try:
                os.sched_setaffinity(process, allowed)
            except OSError:
                continue  # gone, or never ours
