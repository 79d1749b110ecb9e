"""Whether a connection's server process runs on this machine, and which one it is.

A server tells the number of its process, but in a container or behind a forwarded port that
number means another process here, or none. So it needs proof: the process at the other end of
our socket is its parent, or its title names our own end of the connection.
"""

from __future__ import annotations

import os
import socket
import struct
from ipaddress import ip_address
from pathlib import Path

from humble_ledger.engines.postgresql.connection import Connection

_PEER = struct.Struct("3i")  # process, user, group: Linux, unix(7), SO_PEERCRED


def local_process(connection: Connection) -> int | None:
    """The process on this machine that serves a connection; None when that is not proven."""
    if not hasattr(socket, "SO_PEERCRED"):
        return None
    process = connection.info.backend_pid
    try:
        with socket.socket(fileno=os.dup(connection.fileno())) as own:
            if own.family == socket.AF_UNIX:
                found = own.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _PEER.size)
                proven = _parent_of(process) == _PEER.unpack(found)[0]
            else:
                here = ip_address(own.getpeername()[0]).is_loopback
                proven = here and f"({own.getsockname()[1]})" in _title_of(process)
    except (OSError, ValueError):
        return None
    return process if proven else None


def _parent_of(process: int) -> int:
    # The name in brackets may hold blanks and brackets; what follows it does not.
    return int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[1])


def _title_of(process: int) -> str:
    """What the server calls its process: "postgres: user database 127.0.0.1(54321) idle"."""
    return Path(f"/proc/{process}/cmdline").read_text(errors="replace")
