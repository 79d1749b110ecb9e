"""Stepping aside: a trial whose uncommitted index keeps a writer waiting too long gives way.

A thread with a connection of its own looks who waits for a lock that the trial's session
holds. As soon as one has waited as long as we would ourselves wait for a lock, it ends that
session: the server rolls the change back and the writer goes on.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field

import psycopg

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.errors import HumbleError

LOOK_S = 0.2
_WAIT_STARTS_FROM = 140000  # the version from which pg_locks tells since when

# Builds by others that wait for older transactions wait for no table, and are left out.
_WAITING_SQL = """
SELECT coalesce(max(extract(epoch FROM clock_timestamp() - {since})) * 1000, 0)
FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
WHERE NOT l.granted AND l.locktype IN ('relation', 'tuple', 'transactionid')
  AND a.backend_type = 'client backend' AND %s = ANY(pg_blocking_pids(l.pid))
"""


@dataclass(slots=True)
class Yielding:
    """Watches over one session; ``gave_way_ms`` is how long somebody had waited, or None."""

    watcher: Connection
    pid: int
    limits: Limits
    gave_way_ms: float | None = None
    _over: threading.Event = field(default_factory=threading.Event)

    def watch(self) -> None:
        """Look until it is over, or until the session was ended."""
        since = "l.waitstart"
        if self.watcher.info.server_version < _WAIT_STARTS_FROM:
            since = "a.query_start"
        question = _WAITING_SQL.format(since=since).encode()
        with contextlib.suppress(psycopg.Error):
            while not self._over.wait(LOOK_S):
                row = self.watcher.execute(question, (self.pid,)).fetchone()
                waited = float(row[0]) if row is not None else 0.0
                if waited >= self.limits.lock_ms:
                    self.gave_way_ms = waited
                    self.watcher.execute(b"SELECT pg_terminate_backend(%s)", (self.pid,))
                    return

    def stop(self) -> None:
        """Look no more."""
        self._over.set()


@contextlib.contextmanager
def yielding(url: str, session: Connection, mark: str, limits: Limits) -> Iterator[Yielding]:
    """Watch over a session while the block runs."""
    watcher = connect(url, limits, mark=mark)
    found = Yielding(watcher, session.info.backend_pid, limits)
    thread = threading.Thread(target=found.watch, daemon=True)
    thread.start()
    try:
        yield found
    finally:
        found.stop()
        thread.join()
        with contextlib.suppress(psycopg.Error, HumbleError):
            watcher.close()
