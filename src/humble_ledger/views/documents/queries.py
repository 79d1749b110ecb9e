"""Queries: the ranking, and one query with all that is known of it."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.results.queries import CodeRanking, QueryFindings, TagRanking
from humble_ledger.core.workload.origins import main_places
from humble_ledger.core.workload.ranking import RankedQuery, Ranking
from humble_ledger.views.documents.parts import iso, rounded


class QueryRow(Struct, frozen=True):
    """One query of the ranking; None is unknown. ``work`` is the sum over all its calls.

    ``sent_by`` is the place of the application that took the most time sending it, "" unknown.
    """

    id: str
    fingerprint: str
    text: str
    statement: str
    parameters: list[str | None]
    calls: int
    total_ms: float | None
    mean_ms: float | None
    deviation_ms: float | None
    p95_ms: float | None
    max_ms: float | None
    share: float
    running_share: float
    growth_ms: float | None
    rows_mean: float | None
    work: dict[str, float | None]
    cost_estimated: float | None
    tables: list[str]
    applications: list[str]
    first_seen: str | None
    last_seen: str | None
    sources: list[str]
    sent_by: str = ""


class QueriesDocument(Struct, frozen=True):
    """The ranking: what it goes by, the kind of source it rests on, and the others there are.

    ``compared`` names the two captures of a ranking by growth.
    """

    queries: list[QueryRow]
    by: str
    source: str
    other_sources: list[str]
    compared: list[str]
    kind: Literal["queries"] = "queries"
    version: Literal[1] = 1


class RunRow(Struct, frozen=True):
    """One run that was kept with its values; ``values`` by the column they belong to."""

    started_at: str | None
    duration_ms: float | None
    statement: str
    parameters: list[str | None]
    values: dict[str, str | None]


class SlowValueRow(Struct, frozen=True):
    """A value whose runs are slow, against the runs with other values."""

    name: str
    value: str | None
    runs: int
    median_ms: float
    others_median_ms: float


class PeriodRow(Struct, frozen=True):
    """What a query took in a period."""

    first_at: str | None
    last_at: str | None
    calls: int
    total_ms: float


class WaitRow(Struct, frozen=True):
    """What a query was seen waiting for, by sampling."""

    query: str | None
    kind: str
    event: str
    samples: int
    total_ms: float


class IncidentRow(Struct, frozen=True):
    """An incident of the log; ``amount`` in bytes or milliseconds, by its kind."""

    name: str
    at: str | None
    amount: float | None
    detail: str
    query: str | None


class SenderRow(Struct, frozen=True):
    """A place of an application that sent the query; "" and None are unknown.

    ``most_in_one_request`` is the most often that one request sent it.
    """

    code: str
    function: str
    route: str
    calls: int
    total_ms: float
    max_ms: float
    requests: int | None
    most_in_one_request: int | None


class CodeRow(Struct, frozen=True):
    """A place of an application with all that it sent; see `SenderRow`."""

    code: str
    function: str
    routes: list[str]
    queries: list[str]
    calls: int
    total_ms: float
    share: float
    most_in_one_request: int | None


class CodeDocument(Struct, frozen=True):
    """The places of an application, those that take the most time first.

    ``count`` of them there are; ``unplaced_ms`` took runs of which no place is known.
    """

    places: list[CodeRow]
    source: str
    count: int
    total_ms: float
    unplaced_ms: float
    kind: Literal["code"] = "code"
    version: Literal[1] = 1


class TagRow(Struct, frozen=True):
    """All runs whose statements have one value of a tag; ``share`` is of those that have any."""

    value: str
    calls: int
    total_ms: float
    mean_ms: float
    max_ms: float
    share: float
    queries: list[str]


class TagsDocument(Struct, frozen=True):
    """The values of a tag, those that take the most time first.

    ``count`` of them there are; ``untagged_ms`` took runs that have no such tag; ``names`` are
    all tags there are.
    """

    name: str
    values: list[TagRow]
    source: str
    count: int
    total_ms: float
    untagged_ms: float
    names: list[str]
    kind: Literal["tags"] = "tags"
    version: Literal[1] = 1


class QueryDocument(Struct, frozen=True):
    """One query with everything the ledger knows of it."""

    query: QueryRow
    source: str
    runs: list[RunRow]
    slow_values: list[SlowValueRow]
    periods: list[PeriodRow]
    plans: list[str]
    symptoms: list[str]
    waits: list[WaitRow]
    incidents: list[IncidentRow]
    senders: list[SenderRow]
    kind: Literal["query"] = "query"
    version: Literal[1] = 1


def queries_document(ranking: Ranking) -> QueriesDocument:
    """The ranking, or its first rows."""
    rows = ranking.rows
    return QueriesDocument(
        [_query(each, ranking.sent_by.get(each.query.id, "")) for each in rows],
        ranking.by.value,
        ranking.source,
        list(ranking.others),
        list(ranking.compared),
    )


def _query(ranked: RankedQuery, sent_by: str = "") -> QueryRow:
    query, usage = ranked.query, ranked.usage
    work = usage.work
    return QueryRow(
        id=query.id,
        fingerprint=query.fingerprint,
        text=query.text,
        statement=query.statement,
        parameters=list(query.parameters),
        calls=usage.calls,
        total_ms=round(usage.total_ms, 3) if usage.timed else None,
        mean_ms=round(usage.mean_ms, 3) if usage.timed else None,
        deviation_ms=round(usage.deviation_ms, 3) if usage.timed else None,
        p95_ms=rounded(usage.p95_ms),
        max_ms=rounded(usage.max_ms),
        share=round(ranked.share, 6),
        running_share=round(ranked.running_share, 6),
        growth_ms=rounded(ranked.growth_ms),
        rows_mean=None if work.rows is None else work.rows / max(usage.calls, 1),
        work={
            "rows": work.rows,
            "cached_pages": work.pages_cached,
            "read_pages": work.pages_read,
            "written_pages": work.pages_written,
            "temp_pages": work.temp_pages,
            "planning_ms": work.planning_ms,
            "wal_bytes": work.wal_bytes,
            "compile_ms": work.compile_ms,
        },
        cost_estimated=query.cost,
        tables=list(query.tables),
        applications=list(query.applications),
        first_seen=iso(query.first_seen),
        last_seen=iso(query.last_seen),
        sources=list(query.sources),
        sent_by=sent_by,
    )


def query_document(found: QueryFindings) -> QueryDocument:
    """One query with everything known of it."""
    runs = [
        RunRow(
            run.started_at,
            run.duration_ms,
            run.statement,
            list(run.parameters),
            {column.name: column.values[n] for column in found.columns},
        )
        for n, run in enumerate(found.runs)
    ]
    return QueryDocument(
        query=_query(found.ranked, main_places(found.senders).get(found.ranked.query.id, "")),
        source=found.source,
        runs=runs,
        slow_values=[
            SlowValueRow(name, each.value, each.runs, each.median_ms, each.others_ms)
            for name, each in found.slow_values
        ],
        periods=[
            PeriodRow(each.first_at, each.last_at, each.calls, each.total_ms)
            for each in found.over_time
        ],
        plans=[each.id for each in found.plans],
        symptoms=[each.id for each in found.symptoms],
        waits=[WaitRow(w.query, w.kind, w.event, w.samples, w.total_ms) for w in found.waits],
        incidents=[
            IncidentRow(
                each.incident.kind.value, each.incident.at, each.incident.amount,
                each.incident.detail, each.query,
            )
            for each in found.incidents
        ],
        senders=[
            SenderRow(
                each.origin.code, each.origin.function, each.origin.route, each.sent.calls,
                round(each.sent.total_ms, 3), round(each.sent.max_ms, 3),
                each.sent.requests or None, each.sent.most_in_one or None,
            )
            for each in found.senders
        ],
    )  # fmt: skip


def code_document(found: CodeRanking) -> CodeDocument:
    """The places of an application, or the first of them."""
    return CodeDocument(
        [
            CodeRow(
                each.code, each.function, list(each.routes), list(each.queries), each.calls,
                round(each.total_ms, 3), round(each.share, 6), each.most_in_one or None,
            )
            for each in found.places
        ],
        found.source,
        found.count,
        round(found.total_ms, 3),
        round(found.unplaced_ms, 3),
    )  # fmt: skip


def tags_document(found: TagRanking) -> TagsDocument:
    """The values of a tag, or the first of them."""
    return TagsDocument(
        found.name,
        [
            TagRow(
                each.value, each.calls, round(each.total_ms, 3),
                round(each.total_ms / each.calls, 3), round(each.max_ms, 3), round(each.share, 6),
                list(each.queries),
            )
            for each in found.values
        ],
        found.source,
        found.count,
        round(found.total_ms, 3),
        round(found.untagged_ms, 3),
        list(found.names),
    )  # fmt: skip
