"""Which process runs a trial, and whether it still does."""

from __future__ import annotations

import os
import socket
from pathlib import Path


def this_process() -> str:
    """This process as "machine:pid:start", so that a pid used again is not taken for it."""
    return f"{_machine()}:{os.getpid()}:{_start_of(os.getpid())}"


def still_runs(process: str) -> bool | None:
    """Whether a process of `this_process` still runs; None when it is on another machine."""
    machine, _, rest = process.rpartition(":")
    machine, _, pid = machine.rpartition(":")
    if machine != _machine() or not pid.isdigit():
        return None
    try:
        os.kill(int(pid), 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return _start_of(int(pid)) == rest


def _machine() -> str:
    """Where a process's number means something, by a name that no other place has.

    Machines of one image may share their host's name, and write into one ledger; containers on one
    machine number their processes apart.
    """
    try:
        known = Path("/etc/machine-id").read_text(encoding="ascii").strip()[:8]
    except (OSError, UnicodeDecodeError):
        known = ""
    try:
        numbers = os.readlink("/proc/self/ns/pid").strip("pid:[]")
    except OSError:
        numbers = ""
    return "/".join(part for part in (socket.gethostname(), known, numbers) if part)


def _start_of(pid: int) -> str:
    """The kernel's start time of a process where it tells (Linux), else ""."""
    try:
        stat = Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return ""
    return stat.rpartition(")")[2].split()[19]
