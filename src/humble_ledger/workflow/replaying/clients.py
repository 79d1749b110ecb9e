"""The clients of a replay: each a thread with a connection, sending what is due."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from humble_ledger.core.replays.model import Sent
from humble_ledger.core.replays.scheduling import Due
from humble_ledger.engines.contract import Client
from humble_ledger.errors import HumbleError, TargetUnreachable

TIMEOUT_S = 10.0


@dataclass(slots=True)
class Player:
    """One client: it sends what is due until the list or the time is over."""

    client: Client
    dues: Iterable[Due]
    clock: Clock
    sent: list[Sent] = field(default_factory=list)
    late_ms: list[float] = field(default_factory=list)
    wanted: list[str] = field(default_factory=list)
    lost: str = ""

    def play(self) -> None:
        """Send until it is over; a statement's error is counted, a lost connection ends it."""
        for due in self.dues:
            if due.at_s is not None and not self.clock.wait_until(due.at_s):
                return
            if self.clock.over.is_set():
                return
            if due.at_s is not None:
                self.late_ms.append(max(0.0, (self.clock.now() - due.at_s) * 1000.0))
            try:
                self._settle()
                elapsed, words = self.client.run(due.run.statement).elapsed_ms, ""
            except TargetUnreachable as error:
                self.lost = error.message
                return
            except HumbleError as error:
                elapsed, words = 0.0, error.message
            at = self.clock.now()
            if self.clock.over.is_set() and words:
                return  # we stopped it ourselves
            self.sent.append(Sent(at, due.run.query, elapsed, words))

    def _settle(self) -> None:
        """Give the session the settings that somebody asked for meanwhile."""
        while self.wanted:
            self.client.do(self.wanted[0])
            self.wanted.pop(0)


@dataclass(slots=True)
class Clock:
    """The time of a replay, in seconds from its beginning, and the sign that it is over."""

    over: threading.Event = field(default_factory=threading.Event)
    _begun: float = 0.0

    def start(self) -> None:
        """Begin now."""
        self._begun = time.perf_counter()

    def now(self) -> float:
        """Seconds since the beginning."""
        return time.perf_counter() - self._begun

    def wait_until(self, second: float) -> bool:
        """Sleep until that second; False when it was over before."""
        return not self.over.wait(max(0.0, second - self.now()))


def end(players: Sequence[Player], threads: Sequence[threading.Thread], clock: Clock) -> None:
    """Stop all clients: nothing more is sent, what runs is cancelled."""
    clock.over.set()
    for player, thread in zip(players, threads, strict=True):
        if thread.is_alive():
            player.client.cancel()
    give_up = time.monotonic() + TIMEOUT_S
    for thread in threads:
        thread.join(max(0.1, give_up - time.monotonic()))
    for player in players:
        player.client.close()
