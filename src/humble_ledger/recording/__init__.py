"""Recording an application's statements, with the lines of code that send them.

    from humble_ledger.recording import record

    record(engine, "statements.jsonl")                               # SQLAlchemy
    connection = record(sqlite3.connect("app.db"), "statements.jsonl")  # a driver's connection

writes one line of JSON for each statement, which ``humble capture log statements.jsonl`` reads;
docs/guide/record.md tells the form. This package needs nothing but Python: no other part of
Humble Ledger is imported by it. Nothing that goes wrong in it reaches the application.
"""

from __future__ import annotations

from os import PathLike
from typing import Any

from humble_ledger.recording.recorder import Recorder, flush
from humble_ledger.recording.requests import (
    AsgiRequests,
    WsgiRequests,
    request,
)

__all__ = ["AsgiRequests", "Recorder", "WsgiRequests", "flush", "record", "request"]


def record(what: Any, to: str | PathLike[str] | Recorder, **options: Any) -> Any:
    """Record the statements of an engine of SQLAlchemy, or of a driver's connection.

    ``to`` is the file, with ``options`` as `Recorder` has them, or a recorder that exists. Of an
    engine it is returned; in place of a connection use what is returned. An engine records the
    connections that it opens from now on.

    Raises:
        TypeError: it is neither.
    """
    recorder = to if isinstance(to, Recorder) else Recorder(to, **options)
    if hasattr(what, "dialect") and hasattr(what, "pool"):
        from humble_ledger.recording.alchemy import record_engine  # noqa: PLC0415

        record_engine(what, recorder)
        return what
    if hasattr(what, "sync_engine"):
        from humble_ledger.recording.alchemy import record_engine  # noqa: PLC0415

        record_engine(what.sync_engine, recorder)
        return what
    if hasattr(what, "cursor") and hasattr(what, "commit"):
        from humble_ledger.recording.drivers import RecordedConnection  # noqa: PLC0415

        return RecordedConnection(what, recorder)
    raise TypeError("record() takes an engine of SQLAlchemy or a connection of a driver")
