"""The files that the server's collector of messages writes, read through the connection.

Documented: "Error Reporting and Logging" (`log_directory`, `logging_collector`), and "Generic File
Access Functions" (`pg_ls_logdir`, `pg_read_binary_file`).
"""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.capture.places import ServedLog
from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.errors import HumbleError, StatementRejected, WrongUsage

_SETTINGS = "SELECT current_setting('logging_collector') = 'on', current_setting('log_destination')"
_DIRECTORY = "SELECT current_setting('log_directory')"
# Forms with fields tell more, and one of them is enough: they all tell of the same statements.
_ENDS = (("jsonlog", ".json"), ("csvlog", ".csv"), ("stderr", ""))
_LISTED = (
    "SELECT name, size, extract(epoch FROM modification)::float8 FROM pg_ls_logdir() "
    "ORDER BY modification, name"
)


def served_logs(connection: Connection) -> Sequence[ServedLog]:
    """The files of the form that tells most, the oldest first.

    Raises:
        WrongUsage: the server's collector is off: what it says goes elsewhere.
        StatementRejected: this user may not list or read them.
    """
    with translated():
        row = connection.execute(_SETTINGS).fetchone()
    assert row is not None
    collecting, destinations = row
    if not collecting:
        raise WrongUsage(
            "This server hands out no log: its collector of messages (logging_collector) is off, "
            "and what it says goes to whoever started it.",
            "Name the file:  humble capture log FILE",
        )
    written = {each.strip() for each in str(destinations).split(",")}
    form = next((end for name, end in _ENDS if name in written), "")
    try:
        with translated():
            found = connection.execute(_LISTED).fetchall()
            directory = str((connection.execute(_DIRECTORY).fetchone() or ("log",))[0])
    except StatementRejected as error:
        raise _not_let_in(error, "pg_monitor") from error
    others = tuple(end for _, end in _ENDS if end and end != form)

    def served(name: str, size: int, changed: float) -> ServedLog:
        path = f"{directory}/{name}"

        def read(offset: int, length: int) -> bytes:
            try:
                with translated():
                    got = connection.execute(
                        "SELECT pg_read_binary_file(%s, %s, %s)", (path, offset, length)
                    ).fetchone()
            except StatementRejected as error:
                raise _not_let_in(error, "pg_read_server_files") from error
            return bytes(got[0]) if got is not None else b""

        return ServedLog(path, size, changed, read)

    return [
        served(str(name), int(size), float(changed))
        for name, size, changed in found
        if size and str(name).endswith(form) and not str(name).endswith(others)
    ]


def _not_let_in(error: HumbleError, role: str) -> StatementRejected:
    return StatementRejected(
        f"The server's log cannot be read by this user: {error.message}",
        f"A superuser lets it:  GRANT {role} TO …, and where that is not enough  "
        "GRANT EXECUTE ON FUNCTION pg_read_binary_file(text, bigint, bigint) TO …",
    )
