"""Which process runs a trial, and whether it still does."""

from __future__ import annotations

import os
import socket
from pathlib import Path


def this_process() -> str:
    """This process as "host:pid:start", so that a pid used again is not taken for it."""
    return f"{socket.gethostname()}:{os.getpid()}:{_start_of(os.getpid())}"


def still_runs(process: str) -> bool | None:
    """Whether a process of `this_process` still runs; None when it is on another host."""
    host, _, rest = process.rpartition(":")
    host, _, pid = host.rpartition(":")
    if host != socket.gethostname() or not pid.isdigit():
        return None
    try:
        os.kill(int(pid), 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return _start_of(int(pid)) == rest


def _start_of(pid: int) -> str:
    """The kernel's start time of a process where it tells (Linux), else ""."""
    try:
        stat = Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return ""
    return stat.rpartition(")")[2].split()[19]
