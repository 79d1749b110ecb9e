"""Spans of traces that carry database statements, in OpenTelemetry's JSON encoding.

Source: the specification of its protocol (`opentelemetry/proto/trace/v1/trace.proto` in JSON) and
its semantic conventions for databases and code, the former names as well as today's. An object
with ``resourceSpans`` on each line is what exporters write to files.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

import msgspec

from humble_ledger.capture.application.told_rows import (
    APPLICATION,
    FAILED,
    UNDECODABLE,
    ToldWriter,
    first_object,
)
from humble_ledger.capture.files import LINES
from humble_ledger.capture.log_rows import BlockRows
from humble_ledger.core.workload.origins import LONGEST, Origin, of_tags

_STATEMENT = ("db.query.text", "db.statement")
_DATABASE = ("db.namespace", "db.name")
_ROWS = ("db.response.returned_rows",)
_NUMBER = re.compile(r"[0-9]{1,19}")
_LONGEST_MOMENT = 20
_PARAMETER = "db.query.parameter."
_FAILED_STATUS = 2
_SERVER_KINDS = (2, "SPAN_KIND_SERVER", 5, "SPAN_KIND_CONSUMER")


class _Value(msgspec.Struct, rename="camel", gc=False):
    string_value: str | None = None
    int_value: str | int | None = None
    double_value: float | None = None
    bool_value: bool | None = None

    @property
    def text(self) -> str:
        """Whatever it is, as text."""
        found = (self.string_value, self.int_value, self.double_value, self.bool_value)
        return next((str(each) for each in found if each is not None), "")


class _Attribute(msgspec.Struct, gc=False):
    key: str
    value: _Value


class _Status(msgspec.Struct, gc=False):
    code: int | str = 0


class _Span(msgspec.Struct, rename="camel", gc=False):
    trace_id: str = ""
    name: str = ""
    kind: int | str = 0
    start_time_unix_nano: str | int = 0
    end_time_unix_nano: str | int = 0
    attributes: list[_Attribute] = []
    status: _Status = msgspec.field(default_factory=_Status)


class _Scope(msgspec.Struct, gc=False):
    spans: list[_Span] = []


class _Resource(msgspec.Struct, gc=False):
    attributes: list[_Attribute] = []


class _OfResource(msgspec.Struct, rename="camel", gc=False):
    resource: _Resource = msgspec.field(default_factory=_Resource)
    scope_spans: list[_Scope] = []


class _Line(msgspec.Struct, rename="camel", gc=False):
    resource_spans: list[_OfResource]


_decode = msgspec.json.Decoder(_Line).decode


class SpanLog:
    """See `engines.contract.logs.LogFormat`."""

    engine, name, fallback = APPLICATION, "spans", False
    prefix_setting = ""
    cutter = LINES

    def recognises(self, start: bytes, prefix: str | None) -> bool:
        """By the key that every line has."""
        return "resourceSpans" in first_object(start)

    def fitting(self, start: bytes, prefix: str | None) -> tuple[str | None, str]:
        """No prefix: every line names what it tells."""
        return None, ""

    def rows(self, data: bytes, prefix: str | None, *, columns: bool = False) -> BlockRows:
        """The rows of a block."""
        writer = ToldWriter()
        block = writer.block
        found: list[tuple[str, _Span]] = []
        for number, line in enumerate(data.split(b"\n")[:-1]):
            block.lines += 1
            if not line.strip():
                continue
            try:
                found += _spans(_decode(line))
            except UNDECODABLE:
                block.unreadable(number)
        # What a request was for stands in another span of its trace.
        routes = {span.trace_id: _route(span) for _, span in found if span.kind in _SERVER_KINDS}
        for service, span in found:
            block.entries += 1
            _take(writer, service, span, routes.get(span.trace_id, ""))
        return block


def _spans(line: _Line) -> Iterator[tuple[str, _Span]]:
    for each in line.resource_spans:
        service = _plain(each.resource.attributes).get("service.name", "")
        for scope in each.scope_spans:
            for span in scope.spans:
                yield service, span


def _plain(attributes: list[_Attribute]) -> dict[str, str]:
    return {each.key: each.value.text for each in attributes}


def _route(span: _Span) -> str:
    """What was asked for: the route of the framework, which has no values in it, else the name."""
    tags = _plain(span.attributes)
    method = tags.get("http.request.method") or tags.get("http.method", "")
    route = tags.get("http.route", "")
    return (f"{method} {route}".strip() if route else span.name)[:LONGEST]


def _take(writer: ToldWriter, service: str, span: _Span, route: str) -> None:
    tags = _plain(span.attributes)
    sql = _one(tags, _STATEMENT)
    if not sql:
        return  # of something else than a database
    if span.status.code in (_FAILED_STATUS, "STATUS_CODE_ERROR"):
        writer.block.pass_over(FAILED)
        return
    begun, ended = _nanoseconds(span.start_time_unix_nano), _nanoseconds(span.end_time_unix_nano)
    origin = of_tags(tags)
    parameters = _parameters(tags)
    writer.run(
        sql,
        ended / 1e9 if ended else None,
        (ended - begun) / 1e6 if begun and ended else -1.0,
        style=_style(sql, tags) if parameters else "",
        values=parameters,
        rows=int(rows) if _NUMBER.fullmatch(rows := _one(tags, _ROWS)) else None,
        client=(tags.get("db.user", ""), _one(tags, _DATABASE), service),
        request=span.trace_id,
        origin=Origin(origin.code, origin.function, route or origin.route),
    )


def _nanoseconds(moment: str | int) -> int:
    """Since 1970; 0 for what is no moment."""
    text = str(moment)[:_LONGEST_MOMENT]
    return int(text) if _NUMBER.fullmatch(text) and len(text) < _LONGEST_MOMENT else 0


def _parameters(tags: Mapping[str, str]) -> list[Any] | dict[str, Any] | None:
    found = {k.removeprefix(_PARAMETER): v for k, v in tags.items() if k.startswith(_PARAMETER)}
    if found and all(_NUMBER.fullmatch(key) for key in found):
        return [found[key] for key in sorted(found, key=int)]
    return found or None


def _style(sql: str, tags: Mapping[str, str]) -> str:
    """How the driver writes parameters, as the statement shows."""
    if "%(" in sql:
        return "pyformat"
    if "%s" in sql:
        return "format"
    return "qmark" if "?" in sql and tags.get("db.system", "") == "sqlite" else "dollar"


def _one(tags: Mapping[str, str], names: tuple[str, ...]) -> str:
    return next((tags[name] for name in names if tags.get(name)), "")
