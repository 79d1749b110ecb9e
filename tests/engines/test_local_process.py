"""Whose process serves us: found on this machine, and never taken for another one's."""

from __future__ import annotations

import contextlib
import socket
import threading

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.postgresql.connection import Connection, connect, parse
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.engines.postgresql.launcher.cluster import Cluster
from humble_ledger.engines.postgresql.local_process import local_process
from tests.conftest import Server, only_newest

ADDRESS = "127.11.7.3"  # of this machine, and hardly anybody else's


def _asked(connection: Connection) -> int:
    row = connection.execute("SELECT pg_backend_pid()").fetchone()
    assert row is not None
    return int(row[0])


def test_the_process_is_known_by_socket_and_by_address() -> None:
    with Cluster(find_binaries(), {"listen_addresses": ADDRESS}) as cluster:
        for url in (cluster.url("postgres"), f"postgresql://humble@{ADDRESS}/postgres"):
            with connect(url, Limits()) as connection:
                assert local_process(connection) == _asked(connection), url


@only_newest
def test_behind_a_forwarded_port_it_is_not_known(server: Server) -> None:
    """The server is elsewhere then, as far as anybody can tell."""
    parts = parse(server.url)
    path = f"{parts['host']}/.s.PGSQL.{parts['port']}"
    with socket.create_server((ADDRESS, 0)) as door:

        def forward() -> None:
            client, _ = door.accept()
            behind = socket.socket(socket.AF_UNIX)
            behind.connect(path)
            for source, sink in ((client, behind), (behind, client)):
                threading.Thread(target=_copy, args=(source, sink), daemon=True).start()

        threading.Thread(target=forward, daemon=True).start()
        port = door.getsockname()[1]
        with connect(f"postgresql://humble@{ADDRESS}:{port}/skerry", Limits()) as connection:
            assert _asked(connection) > 0
            assert local_process(connection) is None


def _copy(source: socket.socket, sink: socket.socket) -> None:
    with contextlib.suppress(OSError):  # the other direction has closed it
        while data := source.recv(65536):
            sink.sendall(data)
        sink.close()
