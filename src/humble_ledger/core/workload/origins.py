"""Where in an application statements come from: its lines, and what it was asked for.

An application that records its statements tells the line of code, and the request it was
answering. Frameworks write the same into a comment of the statement, which any log has.
"""

from __future__ import annotations

import re
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from urllib.parse import unquote

LONGEST = 200  # characters of a value, a place or a route
LONGEST_NAME = 80  # characters of a tag's name
_MOST_ORIGINS = 20_000
_MOST_REQUESTS = 5_000


@dataclass(frozen=True, slots=True)
class Origin:
    """Where a statement comes from; "" is not known.

    ``code`` is a place like "shop/catalogue.py:88", ``function`` the one it stands in, ``route``
    what the application was asked for, like "GET /catalogue".
    """

    code: str = ""
    function: str = ""
    route: str = ""

    def __bool__(self) -> bool:
        """Whether anything is known."""
        return bool(self.code or self.function or self.route)

    @property
    def words(self) -> str:
        """The place and its function, else what was asked for."""
        if not self.code:
            return self.function or self.route
        return f"{self.code} ({self.function})" if self.function else self.code


NOWHERE = Origin()
_THE_REST = Origin(function="other places")


@dataclass(slots=True)
class Sent:
    """What came from one origin: calls, their time, and how they were spread over requests.

    ``requests`` are those that are known to have sent it, ``most_in_one`` the most calls in any.
    """

    calls: int = 0
    total_ms: float = 0.0
    max_ms: float = 0.0
    requests: int = 0
    most_in_one: int = 0

    def add(self, calls: int, total_ms: float, max_ms: float) -> None:
        """Count so many calls more."""
        self.calls += calls
        self.total_ms += total_ms
        self.max_ms = max(self.max_ms, max_ms)


class OriginWatch:
    """Counts what each place sent, by the group of the statement."""

    def __init__(self) -> None:
        self._sent: dict[tuple[int, Origin], Sent] = {}
        # Requests that may still send something, the one that was seen longest ago first.
        self._requests: OrderedDict[str, dict[tuple[int, Origin], int]] = OrderedDict()
        self._known: set[Origin] = set()

    def saw(self, group: int, origin: Origin, ms: float, request: str = "") -> None:
        """A run, with the request it was part of when that is known."""
        self.saw_many(group, origin, 1, ms, ms)
        if request:
            key = (group, self._kept(origin))
            calls = self._requests.setdefault(request, {})
            calls[key] = calls.get(key, 0) + 1
            self._requests.move_to_end(request)
            if len(self._requests) > _MOST_REQUESTS:
                self._close(self._requests.popitem(last=False)[1])

    def saw_many(
        self, group: int, origin: Origin, calls: int, total_ms: float, max_ms: float
    ) -> None:
        """Runs that were summed up already."""
        key = (group, self._kept(origin))
        self._sent.setdefault(key, Sent()).add(calls, total_ms, max_ms)

    def add(self, group: int, origin: Origin, more: Sent) -> None:
        """What was counted elsewhere, with its requests."""
        sent = self._sent.setdefault((group, self._kept(origin)), Sent())
        sent.add(more.calls, more.total_ms, more.max_ms)
        sent.requests += more.requests
        sent.most_in_one = max(sent.most_in_one, more.most_in_one)

    def harvest(self, *, ended: bool) -> dict[tuple[int, Origin], Sent]:
        """What came since the last harvest; with ``ended`` no request goes on after it."""
        if ended:
            for calls in self._requests.values():
                self._close(calls)
            self._requests.clear()
        found, self._sent = self._sent, {}
        return found

    def _kept(self, origin: Origin) -> Origin:
        """Each origin as it is, as long as there are not too many."""
        if origin in self._known:
            return origin
        if len(self._known) >= _MOST_ORIGINS:
            return _THE_REST
        self._known.add(origin)
        return origin

    def _close(self, calls: dict[tuple[int, Origin], int]) -> None:
        for key, count in calls.items():
            sent = self._sent.setdefault(key, Sent())
            sent.requests += 1
            sent.most_in_one = max(sent.most_in_one, count)


@dataclass(frozen=True, slots=True)
class Sender:
    """One place of an application with what it sent of a query, summed over captures."""

    query: str
    origin: Origin
    sent: Sent


@dataclass(frozen=True, slots=True)
class CodePlace:
    """One place of an application with all that it sent.

    ``share`` is of the time of all places. ``queries`` are those that took the most time first;
    ``most_in_one`` is the most calls of one of them in a single request, 0 when unknown.
    """

    code: str
    function: str
    routes: tuple[str, ...]
    queries: tuple[str, ...]
    calls: int
    total_ms: float
    share: float
    most_in_one: int


def by_code(senders: Iterable[Sender]) -> list[CodePlace]:
    """The places, those that took the most time first; without a place, by what was asked for."""
    places: dict[tuple[str, str], list[Sender]] = {}
    for each in senders:
        origin = each.origin
        known = (origin.code, origin.function) if origin.code else ("", origin.words)
        places.setdefault(known, []).append(each)
    whole = sum(each.sent.total_ms for found in places.values() for each in found) or 1.0
    listed = []
    for (code, function), found in places.items():
        total = sum(each.sent.total_ms for each in found)
        listed.append(
            CodePlace(
                code,
                function,
                _first((each.origin.route, each.sent.total_ms) for each in found),
                _first((each.query, each.sent.total_ms) for each in found),
                sum(each.sent.calls for each in found),
                total,
                total / whole,
                max(each.sent.most_in_one for each in found),
            )
        )
    return sorted(listed, key=lambda place: (-place.total_ms, place.code, place.function))


def _first(weighed: Iterable[tuple[str, float]]) -> tuple[str, ...]:
    """Names by their summed weight, the heaviest first."""
    sums: dict[str, float] = {}
    for name, weight in weighed:
        if name:
            sums[name] = sums.get(name, 0.0) + weight
    return tuple(sorted(sums, key=lambda name: (-sums[name], name)))


def main_places(senders: Iterable[Sender]) -> dict[str, str]:
    """Of each query the place that took the most time sending it, and how many others there are.

    Senders come with the most time first.
    """
    places: dict[str, list[str]] = {}
    for each in senders:
        known = places.setdefault(each.query, [])
        if each.origin.words not in known:
            known.append(each.origin.words)
    return {
        query: known[0] if len(known) == 1 else f"{known[0]} and {len(known) - 1:,} more"
        for query, known in places.items()
    }


# A comment with pairs in it: key='value' with the value as in URLs, or key:value.
_QUOTED_PAIR = re.compile(r"(?<![\w.%-])([A-Za-z_][\w.%-]*)='((?:[^'\\]|\\.)*)'")
_PLAIN_PAIR = re.compile(r"(?<![\w.])([A-Za-z_][\w.]*):([^,]*)")
_LONGEST_COMMENT = 4_096
_CODE = ("code", "file", "source_location", "code.filepath", "code.file.path", "code_filepath")
_LINE = ("line", "lineno", "code.lineno", "code.line.number", "code_lineno")
_FUNCTION = ("function", "func", "code.function", "code.function.name", "code_function", "action")
_ROUTE = ("route", "http.route", "path", "url")
_JOB = ("job", "task", "command")
_TRACE = re.compile(r"[0-9a-f]{2}-([0-9a-f]{32})-[0-9a-f]{16}-[0-9a-f]{2}")


@dataclass(frozen=True, slots=True)
class Tagged:
    """What the comments of a statement tell: its origin, the request, and all pairs by name.

    ``tags`` leave out what names one request alone.
    """

    origin: Origin = NOWHERE
    request: str = ""
    tags: tuple[tuple[str, str], ...] = ()

    def __bool__(self) -> bool:
        """Whether they tell anything."""
        return bool(self.origin or self.tags)


UNTAGGED = Tagged()
_OF_ONE_REQUEST = frozenset(
    """traceparent tracestate trace_id span_id request_id x_request_id correlation_id lineno
    line""".split()
)


def tagged(sql: str) -> Tagged:
    """What the comments of a statement tell.

    Read are pairs like ``route='%2Fcatalogue'`` and ``controller:catalogue,action:list``.
    """
    if "/*" not in sql:
        return UNTAGGED
    tags: dict[str, str] = {}
    for comment in _comments(sql):
        quoted = _QUOTED_PAIR.findall(comment)
        pairs = quoted or _PLAIN_PAIR.findall(comment)
        tags.update(
            (unquote(key).strip().lower(), unquote(value.replace("\\'", "'")).strip())
            for key, value in pairs
        )
    if not tags:
        return UNTAGGED
    trace = _TRACE.fullmatch(tags.get("traceparent", ""))
    request = trace[1] if trace is not None else tags.get("request_id", "")
    kept = (
        (plain_name(name)[:LONGEST_NAME], plain_name(value))
        for name, value in sorted(tags.items())
        if value and name not in _OF_ONE_REQUEST
    )
    return Tagged(of_tags(tags), request, tuple(kept))


def plain_name(text: str) -> str:
    """A name on one line, and not longer than one is."""
    return " ".join(text[:LONGEST].split())


def _comments(sql: str) -> Iterator[str]:
    """What stands in the comments of a statement; a hint to a planner, or a long one, is left out.

    Where a string holds what looks like one, that is taken for it, too.
    """
    place = sql.find("/*")
    while place >= 0 and (end := sql.find("*/", place + 2)) >= 0:
        if end - place < _LONGEST_COMMENT and sql[place + 2] != "+":
            yield sql[place + 2 : end]
        place = sql.find("/*", end + 2)


def of_tags(tags: Mapping[str, str]) -> Origin:
    """The origin that names and values tell, under any of the names in use."""
    code, line = _one(tags, _CODE), _one(tags, _LINE)
    if code and line and not code.endswith(f":{line}"):
        code = f"{code}:{line}"
    controller = tags.get("controller", "")
    route = _one(tags, _ROUTE)
    method = tags.get("method", tags.get("http.method", ""))
    if route and method:
        route = f"{method} {route}"
    if not route and controller:
        route = "/".join(part for part in (controller, tags.get("action", "")) if part)
    return Origin(*map(plain_name, (code, _one(tags, _FUNCTION), route or _one(tags, _JOB))))


def _one(tags: Mapping[str, str], names: tuple[str, ...]) -> str:
    return next((tags[name] for name in names if tags.get(name)), "")
