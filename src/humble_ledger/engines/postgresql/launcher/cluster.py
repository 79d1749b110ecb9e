"""A PostgreSQL server of our own, from an empty folder to a stopped server."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path
from types import TracebackType
from urllib.parse import quote

import psycopg

from humble_ledger.engines.launching import supervisor
from humble_ledger.engines.launching.account import Account, choose_account
from humble_ledger.engines.launching.keeping import PARENTS
from humble_ledger.engines.postgresql.launcher.binaries import Binaries
from humble_ledger.engines.postgresql.launcher.reachable import reachable_binaries
from humble_ledger.errors import TargetUnreachable

USER = "humble"
PORT = 5432  # only names the socket file; nothing listens on the network
START_TIMEOUT_S = 30
INITDB_LOG = "initdb.log"
POLL_S = 0.05
CHECKSUMS_FROM, NO_CHECKSUMS = 18, "--no-data-checksums"

# A scratch server's data need not outlive a power cut.
SCRATCH_SETTINGS: Mapping[str, str] = {
    "fsync": "off",
    "synchronous_commit": "off",
    "full_page_writes": "off",
}


class Cluster:
    """A server of ours: ``with Cluster(binaries) as server: … server.url("postgres")``.

    The folder holds the data, the socket and the log, belongs to the user that runs the
    server, and is removed when the server stops. The server listens on its socket only.

    ``settings`` are written to its configuration; they win over `SCRATCH_SETTINGS`. ``checksums``
    tells whether pages of data carry one, as they do by default from version 18 on. ``kept`` is a
    folder that stays when the server stops, and whose data are used again; nobody else may use it
    meanwhile.

    Raises:
        TargetUnreachable: initdb failed or the server did not start; the message carries
            the end of its own log.
    """

    def __init__(
        self,
        binaries: Binaries,
        settings: Mapping[str, str] | None = None,
        *,
        checksums: bool = True,
        kept: Path | None = None,
    ) -> None:
        self._given = binaries
        self._settings = {**SCRATCH_SETTINGS, **(settings or {})}
        self._plain_pages = [] if checksums or binaries.major < CHECKSUMS_FROM else [NO_CHECKSUMS]
        self._supervisor: subprocess.Popen[bytes] | None = None
        self.account = choose_account("postgres", "PostgreSQL")
        self._kept = kept
        self.folder = kept or Path()
        self.version = binaries.version

    @property
    def data(self) -> Path:
        """The data folder."""
        return self.folder / "data"

    @property
    def log(self) -> Path:
        """The server's log file."""
        return self.folder / "server.log"

    @property
    def running(self) -> bool:
        """Whether the server's supervisor is alive."""
        return self._supervisor is not None and self._supervisor.poll() is None

    def url(self, database: str, user: str = USER) -> str:
        """The URL of one database of this server."""
        host = quote(str(self.folder), safe="")
        return f"postgresql://{user}@/{database}?host={host}&port={PORT}"

    def __enter__(self) -> Cluster:
        account = self.account
        if self._kept is None:
            parent = next((p for p in PARENTS if Path(p).is_dir()), None)
            self.folder = Path(tempfile.mkdtemp(prefix="humble-", dir=parent))
        try:
            account.hand_over(self.folder)
            binaries = reachable_binaries(self._given, account, self.folder)
            self._start(binaries, account)
            self._wait_until_ready()
        except BaseException:
            self.stop()
            raise
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.stop()

    def stop(self) -> None:
        """Stop the server, wait for it, and remove its folder; harmless when it is stopped."""
        if self._supervisor is not None:
            assert self._supervisor.stdin is not None
            self._supervisor.stdin.close()
            self._supervisor.wait()
            self._supervisor = None
        if self._kept is None:
            shutil.rmtree(self.folder, ignore_errors=True)

    def _start(self, binaries: Binaries, account: Account) -> None:
        settings = {
            "listen_addresses": "",
            "unix_socket_directories": str(self.folder),
            "unix_socket_permissions": "0700",
            "port": str(PORT),
            **self._settings,
        }
        order = {
            "keep": self._kept is not None,
            "initdb": None
            if (self.data / "PG_VERSION").exists()
            else [
                binaries.program("initdb"),
                f"--pgdata={self.data}",
                f"--username={USER}",
                "--auth=trust",  # the folder of the socket is closed to other users
                "--encoding=UTF8",
                "--locale=C",
                "--no-sync",
                "--no-instructions",
                *self._plain_pages,
            ],
            # A "fast shutdown" (roll back, checkpoint, end), and what it does not outlive.
            "stop": int(signal.SIGINT),
            "kill": int(signal.SIGQUIT),
            "settings_file": str(self.data / "postgresql.conf"),
            "settings": "".join(f"{name} = {_quoted(v)}\n" for name, v in settings.items()),
            "server": [binaries.program("postgres"), "-D", str(self.data)],
            "log": str(self.log),
            "initdb_log": str(self.folder / INITDB_LOG),
            "uid": account.uid if account.switch else None,
            "gid": account.gid if account.switch else None,
            "folder": str(self.folder),
        }
        self._supervisor = subprocess.Popen(
            [sys.executable, "-I", supervisor.__file__, json.dumps(order)],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )

    def _wait_until_ready(self) -> None:
        give_up = time.monotonic() + START_TIMEOUT_S
        while self.running and time.monotonic() < give_up:
            try:
                psycopg.connect(self.url("postgres"), connect_timeout=2).close()
                return
            except psycopg.OperationalError:
                time.sleep(POLL_S)
        logs = [log for log in (self.folder / INITDB_LOG, self.log) if log.exists()]
        said = logs[-1].read_text(errors="replace") if logs else ""
        raise TargetUnreachable(
            f"The PostgreSQL {self.version} server did not start: {_last_lines(said)}",
            f"Has {self.folder.parent} some 500 MB free? Other programs: HUMBLE_PG_BIN.",
        )


def _quoted(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def _last_lines(text: str) -> str:
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return "; ".join(lines[-2:]) or "it said nothing"
