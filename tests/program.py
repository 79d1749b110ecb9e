"""Driving the built program as a user does: its arguments, its output, its exit code.

A run is a process of its own, with its own folder, environment and pipes. Most are forked
from a process that has imported the program already, since loading the packages it stands on
takes longer than most of its commands; the tests of starting up begin the installed script itself.
"""

from __future__ import annotations

import io
import json
import multiprocessing
import os
import pkgutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import humble_ledger

HUMBLE = str(Path(sys.executable).parent / "humble")
# How long a test waits before it calls something hung: not that it is quick, for machines differ.
PATIENCE_S = 1200


def _plain(module: pkgutil.ModuleInfo) -> bool:
    """Whether importing a module does nothing but that."""
    others = ("migrations", "recording.django")  # not for every process
    return not any(each in module.name for each in others) and not module.name.endswith("__main__")


_FORKS = multiprocessing.get_context("forkserver")
# All modules: what a command imports when it needs it is there already.
_FORKS.set_forkserver_preload(
    [m.name for m in pkgutil.walk_packages(humble_ledger.__path__, "humble_ledger.") if _plain(m)]
    + [
        "sqlglot.dialects.postgres",
        "alembic.command",
        "rich.console",
        "tests.program",
        "tests.warmed",
    ]
)


def _run_here(folder: str, arguments: list[str], environment: dict[str, str], pipes: str) -> None:
    """In the forked process: become a run of the program, and end with its exit code."""
    from humble_ledger.cli.entry import run  # noqa: PLC0415 - imported where it runs

    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    tempfile.tempdir = None  # as its environment says
    # Tests that were started in the background hand an ignored Ctrl-C down to all they start.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    for number, (name, flags) in enumerate(
        [("in", os.O_RDONLY), ("out", os.O_WRONLY), ("err", os.O_WRONLY)]
    ):
        opened = os.open(f"{pipes}/{name}", flags)
        os.dup2(opened, number)
        os.close(opened)
    sys.stdin = io.TextIOWrapper(io.FileIO(0, closefd=False), encoding="utf-8")
    sys.stdout = io.TextIOWrapper(io.FileIO(1, "w", closefd=False), encoding="utf-8")
    sys.stderr = io.TextIOWrapper(
        io.FileIO(2, "w", closefd=False), encoding="utf-8", line_buffering=True
    )
    sys.argv = [HUMBLE, *arguments]
    sys.exit(run(arguments))


class Started:
    """A run of the program that goes on by itself; to its test it is like `subprocess.Popen`."""

    def __init__(
        self, folder: Path, arguments: Sequence[str], environment: dict[str, str], stdin: str = ""
    ) -> None:
        self._kept = TemporaryDirectory()
        self._pipes = Path(self._kept.name)
        (self._pipes / "in").write_text(stdin)
        (self._pipes / "out").touch()
        (self._pipes / "err").touch()
        self.args = [HUMBLE, *arguments]
        # Their types are wider than what this version of the standard library gives.
        self._process = _FORKS.Process(
            target=_run_here,
            args=(str(folder), list(arguments), environment, str(self._pipes)),
        )
        self._process.start()
        assert self._process.pid is not None
        self.pid = self._process.pid

    @property
    def returncode(self) -> int | None:
        """Its exit code, the negative number of the signal that ended it; None while it runs."""
        return self._process.exitcode

    def poll(self) -> int | None:
        """Whether it has ended, and how."""
        return self._process.exitcode

    def send_signal(self, number: int) -> None:
        """Send it a signal, if it still runs."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        """End it at once."""
        self.send_signal(signal.SIGKILL)

    def communicate(self, timeout: float | None = PATIENCE_S) -> tuple[str, str]:
        """Wait for its end; what it wrote to stdout and stderr."""
        self._process.join(timeout)
        if self.poll() is None:
            self.kill()
            raise TimeoutError(f"{' '.join(self.args)}: no end in {timeout} s")
        told = (self._pipes / "out").read_text(), (self._pipes / "err").read_text()
        self._kept.cleanup()
        return told

    def wait(self, timeout: float | None = PATIENCE_S) -> int | None:
        """Wait for its end; its exit code."""
        self._process.join(timeout)
        return self.returncode


_STARTED: list[Started] = []


def end_what_was_started() -> None:
    """End the programs that a test started and, as it failed, did not wait for."""
    while _STARTED:
        started = _STARTED.pop()
        if started.poll() is None:
            started.kill()
            started.wait()


@dataclass(frozen=True)
class Finished:
    """What one run of the program gave."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """The one JSON document on stdout."""
        return json.loads(self.out)


@dataclass(frozen=True)
class Program:
    """The program in a folder; `ok` expects success, `fails` an exit code."""

    folder: Path
    environment: dict[str, str]

    def run(self, *arguments: str, stdin: str = "", **variables: str) -> Finished:
        environment = {**self.environment, **variables}
        started = Started(self.folder, arguments, environment, stdin)
        out, err = started.communicate()
        assert started.returncode is not None
        done = Finished(started.returncode, out, err)
        assert "Traceback" not in done.err, done.err
        return done

    def ok(self, *arguments: str, stdin: str = "") -> Finished:
        done = self.run(*arguments, stdin=stdin)
        assert done.code == 0, done.err + done.out
        return done

    def json(self, *arguments: str, stdin: str = "") -> Any:
        return self.ok(*arguments, "--json", stdin=stdin).json

    def fails(self, code: int, *arguments: str, stdin: str = "", **variables: str) -> str:
        """The message of a run that must end with this code; at most three lines."""
        done = self.run(*arguments, stdin=stdin, **variables)
        assert done.code == code, (done.code, done.out, done.err)
        assert done.out == ""
        assert len(done.err.splitlines()) <= 3, done.err
        return done.err

    def fails_somewhere(self, code: int, *arguments: str) -> str:
        """The message of a run that printed something before it had to stop."""
        done = self.run(*arguments)
        assert done.code == code, (done.code, done.out, done.err)
        return done.err

    def start(self, *arguments: str) -> Started:
        """Start it and do not wait; at the end of its test it is ended."""
        started = Started(self.folder, arguments, self.environment)
        _STARTED.append(started)
        return started

    def start_anew(self, *arguments: str) -> subprocess.Popen[str]:
        """Begin the installed script itself: where it must find packages that came later."""
        return subprocess.Popen(
            [HUMBLE, *arguments], cwd=self.folder, env=self.environment, text=True,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip

    def query_with(self, part: str) -> str:
        """The id of the captured query whose text has this part."""
        rows = self.json("queries")["queries"]
        return next(row["id"] for row in rows if part in row["text"])


SENSOR = "FROM reading WHERE sensor_id = $1 AND taken_at"
