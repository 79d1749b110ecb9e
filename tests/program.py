"""Driving the built program as a user does: its arguments, its output, its exit code."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

HUMBLE = str(Path(sys.executable).parent / "humble")


def _heed_ctrl_c() -> None:
    """Tests that were started in the background hand an ignored Ctrl-C down to all they start."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


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
        done = subprocess.run(
            [HUMBLE, *arguments],
            cwd=self.folder,
            env={**self.environment, **variables},
            input=stdin,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
        assert "Traceback" not in done.stderr, done.stderr
        return Finished(done.returncode, done.stdout, done.stderr)

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
        """Start it and do not wait."""
        return subprocess.Popen(
            [HUMBLE, *arguments],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            preexec_fn=_heed_ctrl_c,  # noqa: PLW1509 - no threads are at work here
        )

    def query_with(self, part: str) -> str:
        """The id of the captured query whose text has this part."""
        rows = self.json("queries")["queries"]
        return next(row["id"] for row in rows if part in row["text"])


SENSOR = "FROM reading WHERE sensor_id = $1 AND taken_at"
