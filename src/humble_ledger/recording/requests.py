"""What the application is doing while it sends statements: the request it answers, a job."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Awaitable, Callable, Iterable, Iterator, MutableMapping
from contextvars import ContextVar
from dataclasses import dataclass
from itertools import count
from typing import Any

# Parts of a path that are values: numbers, uuids and other long words with digits in them.
_VALUE = re.compile(r"(?<=/)(?:\d+|(?=[^/]*\d)[0-9A-Za-z_-]{16,})(?=/|$)")
_numbers = count(1)


@dataclass(frozen=True, slots=True)
class Request:
    """One request or job: its own name, and what it is for."""

    id: str
    route: str | Callable[[], str]

    @property
    def name(self) -> str:
        """What it is for, as far as it is known by now."""
        return self.route if isinstance(self.route, str) else self.route()


current: ContextVar[Request | None] = ContextVar("humble_request", default=None)


def new_request(route: str | Callable[[], str]) -> Request:
    """A request with a name that no other one has."""
    return Request(f"{os.getpid():x}-{next(_numbers):x}", route)


@contextlib.contextmanager
def request(route: str | Callable[[], str]) -> Iterator[None]:
    """Mark what is sent meanwhile as part of one request, or of one turn of a job.

    ``route`` says what it is for, without values: "GET /catalogue", "nightly import".
    """
    token = current.set(new_request(route))
    try:
        yield
    finally:
        current.reset(token)


def plain_route(method: str, path: str) -> str:
    """A method and a path, whose values are left out: "GET /piece/{}"."""
    return f"{method} {_VALUE.sub('{}', path)}"[:200]


Environ = dict[str, Any]


class WsgiRequests:
    """A WSGI application whose requests are marked."""

    def __init__(self, application: Callable[..., Iterable[bytes]]) -> None:
        self._application = application

    def __call__(self, environ: Environ, start_response: Callable[..., Any]) -> Iterable[bytes]:
        """Answer a request; what it sends while its answer is read is part of it."""
        route = plain_route(environ.get("REQUEST_METHOD", ""), environ.get("PATH_INFO", ""))
        current.set(new_request(route))
        try:
            return _Answer(self._application(environ, start_response))
        except BaseException:
            current.set(None)
            raise


class _Answer:
    """The parts of an answer; when it is closed its request is over."""

    def __init__(self, parts: Iterable[bytes]) -> None:
        self._parts = parts

    def __iter__(self) -> Iterator[bytes]:
        return iter(self._parts)

    def close(self) -> None:
        """As the server does in the end."""
        try:
            close = getattr(self._parts, "close", None)
            if close is not None:
                close()
        finally:
            current.set(None)


Scope = MutableMapping[str, Any]


class AsgiRequests:
    """An ASGI application whose requests are marked."""

    def __init__(self, application: Callable[..., Awaitable[None]]) -> None:
        self._application = application

    async def __call__(self, scope: Scope, receive: Any, send: Any) -> None:
        """Answer a request."""
        if scope.get("type") != "http":
            await self._application(scope, receive, send)
            return
        method = scope.get("method", "")

        def route() -> str:
            # Frameworks put the route they found into the scope.
            path = getattr(scope.get("route"), "path", None)
            return f"{method} {path}" if path else plain_route(method, scope.get("path", ""))

        with request(route):
            await self._application(scope, receive, send)
