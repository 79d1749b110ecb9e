"""The process between us and a server of ours: when we are gone, it stops the server.

It is run by path with the standard library alone (`python -I supervisor.py JSON`), in a
session of its own, so that a Ctrl-C on the terminal does not reach it. It holds the reading
end of a pipe whose writing end only we hold: we write nothing, and however we end, by
return, Ctrl-C or kill -9, the pipe closes. Then the server is stopped and its folder
removed, unless it is to be kept. Should the supervisor itself be killed, the kernel tells the
server (Linux).
"""

from __future__ import annotations

import ctypes
import json
import os
import select
import shutil
import signal
import subprocess
import sys
from pathlib import Path
from types import FrameType
from typing import Any

PR_SET_PDEATHSIG = 1
STOP_PATIENCE_S = 20
POLL_S = 0.5


def die_with_parent(stop_by: int) -> None:
    """Ask the kernel to send the server a stop when this process dies.

    Called in the child after its user changed, because changing users clears the wish.
    """
    if sys.platform == "linux":
        ctypes.CDLL(None, use_errno=True).prctl(PR_SET_PDEATHSIG, stop_by)


def start(order: dict[str, Any], command: list[str], log: str) -> subprocess.Popen[bytes]:
    """Start a program as the user named in ``order``, its words going to a log."""
    options: dict[str, Any] = {}
    if order["uid"] is not None:
        options = {"user": order["uid"], "group": order["gid"], "extra_groups": []}
    with Path(log).open("ab") as written:
        return subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            stdout=written,
            stderr=written,
            cwd=order["folder"],
            preexec_fn=lambda: die_with_parent(order["stop"]),  # noqa: PLW1509 - this process has one thread
            **options,
        )


def wait_until_alone(server: subprocess.Popen[bytes]) -> bool:
    """Wait until the pipe on standard input closes, True, or the server ends by itself."""
    while server.poll() is None:
        readable, _, _ = select.select([0], [], [], POLL_S)
        if readable and not os.read(0, 4096):
            return True
    return False


def stop(order: dict[str, Any], server: subprocess.Popen[bytes]) -> None:
    """Stop the server: fast, and when it does not listen, at once."""
    if server.poll() is not None:
        return
    server.send_signal(order["stop"])
    try:
        server.wait(STOP_PATIENCE_S)
    except subprocess.TimeoutExpired:
        server.send_signal(order["kill"])
        server.wait()


def initialise(order: dict[str, Any]) -> subprocess.Popen[bytes]:
    """Begin to make the data folder."""
    return start(order, order["initdb"], order["initdb_log"])


def serve(order: dict[str, Any]) -> subprocess.Popen[bytes]:
    """Write the settings and start the server."""
    path = Path(order["settings_file"])
    before = path.read_text(encoding="utf-8") if path.exists() else ""
    if order["settings"] not in before:  # of an earlier start
        with path.open("a", encoding="utf-8") as file:
            file.write(order["settings"])
    return start(order, order["server"], order["log"])


def main() -> None:
    """Make and run the server described by the JSON in the first argument.

    The data folder is made first, unless it is there. Ends with the exit code of the program that
    ended by itself, the one that makes the folder or the server.
    """
    order = json.loads(sys.argv[1])

    def on_signal(number: int, frame: FrameType | None) -> None:
        raise SystemExit(0)

    signal.signal(signal.SIGTERM, on_signal)
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    alone = True
    running = serve(order) if order["initdb"] is None else initialise(order)
    try:
        alone = wait_until_alone(running)
        if not alone and running.returncode == 0 and order["initdb"] is not None:
            running = serve(order)
            alone = True
            alone = wait_until_alone(running)
    finally:
        stop(order, running)
        # What ended by itself leaves its log for those who started it to read.
        if alone and not order["keep"]:
            shutil.rmtree(order["folder"], ignore_errors=True)
    sys.exit(running.returncode)


if __name__ == "__main__":
    main()
