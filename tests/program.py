"""Driving the built program as a user does: its arguments, its output, its exit code.

A run is a process of its own, with its own folder, environment and pipes. Most are forked
from a process that has imported the program already, since loading the packages it stands on
takes longer than most of its commands; `start` begins the installed script itself, and the
tests of starting up do.
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


def _heed_ctrl_c() -> None:
    """Tests that were started in the background hand an ignored Ctrl-C down to all they start."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def _run_here(folder: str, arguments: list[str], environment: dict[str, str], pipes: str) -> None:
    """In the forked process: become a run of the program, and end with its exit code."""
    from humble_ledger.cli.entry import run  # noqa: PLC0415 - imported where it runs

    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
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


_STARTED: list[subprocess.Popen[str]] = []


def end_what_was_started() -> None:
    """End the programs that a test started and, as it failed, did not wait for."""
    while _STARTED:
        started = _STARTED.pop()
        if started.poll() is None:
            started.kill()
            started.communicate()


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
        with TemporaryDirectory() as kept:
            pipes = Path(kept)
            (pipes / "in").write_text(stdin)
            (pipes / "out").touch()
            (pipes / "err").touch()
            # Their types are wider than what this version of the standard library gives.
            process = _FORKS.Process(
                target=_run_here,
                args=(str(self.folder), list(arguments), environment, str(pipes)),
            )
            process.start()
            process.join(PATIENCE_S)
            if process.exitcode is None:
                process.kill()
                raise TimeoutError(f"humble {' '.join(arguments)}: no end in {PATIENCE_S} s")
            done = Finished(
                process.exitcode, (pipes / "out").read_text(), (pipes / "err").read_text()
            )
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

    def start(self, *arguments: str) -> subprocess.Popen[str]:
        """Start it and do not wait; at the end of its test it is ended."""
        started = subprocess.Popen(
            [HUMBLE, *arguments],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            preexec_fn=_heed_ctrl_c,  # noqa: PLW1509 - no threads are at work here
        )
        _STARTED.append(started)
        return started

    def query_with(self, part: str) -> str:
        """The id of the captured query whose text has this part."""
        rows = self.json("queries")["queries"]
        return next(row["id"] for row in rows if part in row["text"])


SENSOR = "FROM reading WHERE sensor_id = $1 AND taken_at"
