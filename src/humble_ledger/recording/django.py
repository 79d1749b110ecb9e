"""Recording in Django.

In its settings:

    INSTALLED_APPS += ["humble_ledger.recording.django.RecordingConfig"]
    MIDDLEWARE = ["humble_ledger.recording.django.RequestMiddleware", *MIDDLEWARE]
    HUMBLE_RECORDING = {"path": BASE_DIR / "statements.jsonl"}

``HUMBLE_RECORDING`` has what `humble_ledger.recording.Recorder` takes.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from django.apps import AppConfig
from django.conf import settings
from django.db.backends.signals import connection_created

from humble_ledger.recording.recorder import Recorder, client_keys, told
from humble_ledger.recording.requests import plain_route, request

_DOUBLE_QUOTES = ("mysql",)


class RecordingConfig(AppConfig):
    """Records every connection that Django opens."""

    name = "humble_ledger.recording.django"
    label = "humble_recording"

    def ready(self) -> None:
        """Begin, when there is a setting."""
        options = dict(getattr(settings, "HUMBLE_RECORDING", None) or {})
        if not options:
            return
        options.setdefault("root", getattr(settings, "BASE_DIR", ""))
        recorder = Recorder(options.pop("path"), **options)

        def opened(sender: Any, connection: Any, **_: Any) -> None:
            if not any(isinstance(each, _Wrapper) for each in connection.execute_wrappers):
                connection.execute_wrappers.append(_Wrapper(recorder, connection))

        connection_created.connect(opened, weak=False, dispatch_uid="humble_recording")


class _Wrapper:
    """Times what goes through one connection."""

    def __init__(self, recorder: Recorder, connection: Any) -> None:
        self._recorder = recorder
        named = connection.settings_dict
        self._client = client_keys(
            database=str(named.get("NAME", "")), user=str(named.get("USER", "")),
            session=f"{id(connection):x}",
        )  # fmt: skip
        self._double_quotes = connection.vendor in _DOUBLE_QUOTES

    def __call__(
        self, execute: Callable[..., Any], sql: Any, params: Any, many: bool, context: Any
    ) -> Any:
        begun_s, begun, error = time.time(), time.perf_counter(), ""
        try:
            return execute(sql, params, many, context)
        except BaseException as failure:
            error = told(failure)
            raise
        finally:
            count = getattr(context.get("cursor"), "rowcount", None)
            self._recorder.saw(
                sql,
                params[0] if many and isinstance(params, list | tuple) and params else params,
                begun_s=begun_s,
                ms=(time.perf_counter() - begun) * 1000.0,
                style="pyformat",
                rows=count if isinstance(count, int) else None,
                client=self._client,
                error=error,
                double_quotes=self._double_quotes,
            )


class RequestMiddleware:
    """Marks what is sent for one request."""

    def __init__(self, get_response: Callable[[Any], Any]) -> None:
        self._get_response = get_response

    def __call__(self, asked: Any) -> Any:
        """Answer a request; its route is known once Django has found the view."""

        def route() -> str:
            found = getattr(asked, "resolver_match", None)
            if found is not None and found.route:
                return f"{asked.method} /{found.route.lstrip('^/')}"
            return plain_route(str(asked.method), str(asked.path))

        with request(route):
            return self._get_response(asked)
