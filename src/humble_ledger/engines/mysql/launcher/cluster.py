"""A MariaDB or MySQL server of our own, from an empty folder to a stopped server."""

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

import pymysql

from humble_ledger.engines.launching import supervisor
from humble_ledger.engines.launching.account import choose_account
from humble_ledger.engines.launching.keeping import PARENTS
from humble_ledger.engines.mysql.launcher.programs import MYSQL_VARIABLE, VARIABLE, Programs
from humble_ledger.errors import TargetUnreachable

USER = "humble"
ACCOUNT = "mysql"  # who distributions have run such a server
RUNNING = "pid"  # the file that a server has while it runs
START_TIMEOUT_S = 60
POLL_S = 0.1

# What both members have. A scratch server's data need not outlive a power cut.
SCRATCH_SETTINGS: Mapping[str, str] = {
    "innodb_flush_log_at_trx_commit": "0",
    "innodb_doublewrite": "0",
    "innodb_flush_method": "nosync",
    "skip_log_bin": "",
    "character_set_server": "utf8mb4",
}


class MariaCluster:
    """A server of ours: ``with MariaCluster(find_programs()) as server: server.url("test")``.

    Its folder holds the data, the socket and the logs, belongs to the user that runs the server,
    and is removed when the server stops. It listens on its socket only; the one user it knows has
    no password and every right, and the folder is closed to other users. ``kept`` is a folder that
    stays when the server stops, and whose data are used again; nobody else may use it meanwhile.

    Raises:
        TargetUnreachable: the server did not start; the message carries the end of its log.
    """

    member = "MariaDB"
    scheme = "mariadb"
    variable = VARIABLE
    own_settings: Mapping[str, str] = {}

    def __init__(
        self,
        programs: Programs,
        settings: Mapping[str, str] | None = None,
        kept: Path | None = None,
    ) -> None:
        self.programs = programs
        self._settings = {**SCRATCH_SETTINGS, **self.own_settings, **(settings or {})}
        self._supervisor: subprocess.Popen[bytes] | None = None
        self.account = choose_account(ACCOUNT, self.member)
        self._kept = kept
        self.folder = kept or Path()

    @property
    def socket(self) -> Path:
        """The socket it listens on."""
        return self.folder / "s"

    @property
    def slow_log(self) -> Path:
        """Where its slow log goes, when that is on."""
        return self.folder / "slow.log"

    @property
    def running(self) -> bool:
        """Whether the server's supervisor is alive."""
        return self._supervisor is not None and self._supervisor.poll() is None

    def url(self, database: str = "", user: str = USER) -> str:
        """The URL of one database of this server."""
        place = quote(str(self.socket), safe="/")
        return f"{self.scheme}://{user}@localhost/{database}?socket={place}"

    def __enter__(self) -> MariaCluster:
        if self._kept is None:
            parent = next((p for p in PARENTS if Path(p).is_dir()), None)
            self.folder = Path(tempfile.mkdtemp(prefix="humble-", dir=parent))
        try:
            self.account.hand_over(self.folder)
            self._start()
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

    def _start(self) -> None:
        data, settings_file = self.folder / "data", self.folder / "server.cnf"
        first = self.folder / "first.sql"
        first.write_text(
            f"CREATE USER IF NOT EXISTS '{USER}'@'localhost' IDENTIFIED BY '';\n"
            f"GRANT ALL PRIVILEGES ON *.* TO '{USER}'@'localhost' WITH GRANT OPTION;\n"
        )
        self.account.hand_over(first)
        settings_file.unlink(missing_ok=True)  # of an earlier start
        settings = {
            "datadir": str(data),
            "socket": str(self.socket),
            "pid_file": str(self.folder / RUNNING),
            "tmpdir": str(self.folder),
            "slow_query_log_file": str(self.slow_log),
            "skip_networking": "",
            # No statement reads or writes files elsewhere.
            "secure_file_priv": str(self.folder),
            "init_file": str(first),
            **self._settings,
        }
        lines = [f"{name} = {value}" if value else name for name, value in settings.items()]
        order = {
            "keep": self._kept is not None,
            "initdb": None if data.is_dir() else self._making(data),
            "stop": int(signal.SIGTERM),
            "kill": int(signal.SIGKILL),
            "settings_file": str(settings_file),
            "settings": "\n".join(("[mysqld]", *lines, "")),
            "server": [str(self.programs.server), f"--defaults-file={settings_file}"],
            "log": str(self.folder / "server.log"),
            "initdb_log": str(self.folder / "making.log"),
            "uid": self.account.uid if self.account.switch else None,
            "gid": self.account.gid if self.account.switch else None,
            "folder": str(self.folder),
        }
        self._supervisor = subprocess.Popen(
            [sys.executable, "-I", supervisor.__file__, json.dumps(order)],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )

    def _making(self, data: Path) -> list[str]:
        """The command that makes the data folder."""
        return [
            str(self.programs.installer),
            "--no-defaults",
            f"--datadir={data}",
            # A server that starts removes every temporary table of its folder for those,
            # also those of other servers that share it.
            f"--tmpdir={self.folder}",
            "--skip-test-db",
            "--auth-root-authentication-method=normal",
        ]

    def _wait_until_ready(self) -> None:
        give_up = time.monotonic() + START_TIMEOUT_S
        while self.running and time.monotonic() < give_up:
            try:
                pymysql.connect(
                    unix_socket=str(self.socket), user=USER, connect_timeout=2, ssl_disabled=True
                ).close()
                return
            except pymysql.Error:
                time.sleep(POLL_S)
        logs = [self.folder / "making.log", self.folder / "server.log"]
        said = "".join(log.read_text(errors="replace") for log in logs if log.exists())
        raise TargetUnreachable(
            f"The {self.member} {self.programs.version} server did not start: {_why(said)}",
            f"Has {self.folder.parent} some 300 MB free? Other programs: {self.variable}.",
        )


class MysqlCluster(MariaCluster):
    """The same with MySQL's programs: ``with MysqlCluster(find_mysql_programs()) as server: …``."""

    member = "MySQL"
    scheme = "mysql"
    variable = MYSQL_VARIABLE
    own_settings: Mapping[str, str] = {
        "mysqlx": "OFF",
        "performance_schema": "OFF",  # a copy answers for plans alone, and starts sooner
        "innodb_redo_log_capacity": "128M",
    }

    def _making(self, data: Path) -> list[str]:
        """Some settings hold from the first day of a folder."""
        fixed = ("innodb_page_size", "lower_case_table_names")
        given = [f"--{name}={self._settings[name]}" for name in fixed if name in self._settings]
        return [
            str(self.programs.server),
            "--no-defaults",
            "--initialize-insecure",
            f"--datadir={data}",
            f"--tmpdir={self.folder}",
            *given,
        ]


def _why(said: str) -> str:
    """The lines of a log that tell why a server ended: its errors, else its last words."""
    lines = [line.strip() for line in said.splitlines() if line.strip()]
    errors = [line for line in lines if "ERROR" in line and "Aborting" not in line]
    return "; ".join(errors[:2] or lines[-2:]) or "it said nothing"
