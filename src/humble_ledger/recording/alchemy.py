"""Engines of SQLAlchemy whose statements are recorded."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from typing import Any

from humble_ledger.recording.recorder import Recorder, client_keys, told

_BEGUN, _CLIENT = "humble_begun", "humble_client"
_STYLES = {"numeric_dollar": "dollar", "numeric": ""}
_DOUBLE_QUOTES = ("mysql", "mariadb")


def record_engine(engine: Any, recorder: Recorder) -> None:
    """Record what is sent over connections of an engine."""
    from sqlalchemy import event  # noqa: PLC0415 - the application has it

    if engine.dialect.name == "sqlite" and not engine.dialect.is_async:
        _record_sqlite(engine, recorder, event)
        return
    style = _STYLES.get(engine.dialect.paramstyle, engine.dialect.paramstyle)
    double_quotes = engine.dialect.name in _DOUBLE_QUOTES

    def before(
        connection: Any, cursor: Any, statement: str, parameters: Any, context: Any, many: bool
    ) -> None:
        connection.info[_BEGUN] = (time.time(), time.perf_counter())

    def after(
        connection: Any, cursor: Any, statement: str, parameters: Any, context: Any, many: bool
    ) -> None:
        sent(connection, statement, parameters, many, rows=getattr(cursor, "rowcount", None))

    def failed(context: Any) -> None:
        if context.connection is not None and context.statement is not None:
            error = told(context.original_exception)
            sent(context.connection, context.statement, context.parameters, False, error=error)

    def sent(
        connection: Any, statement: str, parameters: Any, many: bool, *,
        rows: Any = None, error: str = "",
    ) -> None:  # fmt: skip
        ended = time.perf_counter()
        begun_s, begun = connection.info.pop(_BEGUN, (0.0, ended))
        if not begun_s:
            return
        client = connection.info.get(_CLIENT)
        if client is None:
            client = connection.info[_CLIENT] = _client(engine, connection)
        if many and isinstance(parameters, list | tuple) and parameters:
            parameters = parameters[0]
        recorder.saw(
            statement,
            parameters,
            begun_s=begun_s,
            ms=(ended - begun) * 1000.0,
            style=style,
            rows=rows if isinstance(rows, int) else None,
            client=client,
            error=error,
            double_quotes=double_quotes,
        )

    event.listen(engine, "before_cursor_execute", _harmless(before))
    event.listen(engine, "after_cursor_execute", _harmless(after))
    event.listen(engine, "handle_error", _harmless(failed))


def _harmless(act: Callable[..., None]) -> Callable[..., None]:
    """What raises nothing into the application: a connection may be in any state by then."""

    def tried(*arguments: Any) -> None:
        with contextlib.suppress(Exception):
            act(*arguments)

    return tried


def _client(engine: Any, connection: Any) -> str:
    """Who sends: the engine's address, and the server's number of the session if it is told."""
    driver = getattr(connection.connection, "dbapi_connection", None)
    told = getattr(driver, "info", None)
    return client_keys(
        database=getattr(told, "dbname", None) or engine.url.database or "",
        user=getattr(told, "user", None) or engine.url.username or "",
        session=getattr(told, "backend_pid", None) or f"{id(driver):x}",
    )


def _record_sqlite(engine: Any, recorder: Recorder, event: Any) -> None:
    """Its statements run while rows are fetched, which the engine tells nobody of."""
    from humble_ledger.recording.drivers import sqlite_factory  # noqa: PLC0415

    made = sqlite_factory(recorder)

    def connecting(dialect: Any, record: Any, arguments: Any, named: Any) -> None:
        named.setdefault("factory", made)

    event.listen(engine, "do_connect", connecting)
