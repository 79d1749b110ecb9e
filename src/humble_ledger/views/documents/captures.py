"""Captures: of logs and statistics, of scripts, of live sampling."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.results.captures import LiveCapture, ScriptCapture
from humble_ledger.core.workload.sampling import BlockerBranch
from humble_ledger.views.documents.parts import rounded
from humble_ledger.views.documents.queries import WaitRow
from humble_ledger.views.wording import in_words


class CaptureDocument(Struct, frozen=True):
    """One capture."""

    id: str
    source: str
    place: str
    lines: int
    kept_runs: int
    queries: int
    new_queries: int
    passed_over: dict[str, int]
    first_unreadable: str
    first_run: str | None
    last_run: str | None
    status: str
    entries: int
    plans: int
    incidents: dict[str, int]
    notes: list[str]
    kind: Literal["capture"] = "capture"
    version: Literal[1] = 1


class ScriptStatementRow(Struct, frozen=True):
    """One statement of a script, by its place in the file (line and column from 1).

    ``fault`` is why the server rejects it, ``note`` why it was not explained or not run.
    """

    line: int
    column: int
    statement: str
    query: str | None
    plan: str | None
    cost_estimated: float | None
    duration_ms: float | None
    fault: str | None
    note: str | None


class ScriptDocument(Struct, frozen=True):
    """A script, statement by statement."""

    capture: CaptureDocument
    statements: list[ScriptStatementRow]
    kind: Literal["script"] = "script"
    version: Literal[1] = 1


class RunningRow(Struct, frozen=True):
    """One execution seen running; ``lasted_ms`` is what it had lasted when seen last."""

    query: str | None
    process: int
    application: str
    user: str
    statement: str
    lasted_ms: float
    samples: int


class BlockerRow(Struct, frozen=True):
    """A session that blocks those below it; ``waited_ms`` is None when it waits for nobody."""

    process: int
    state: str
    statement: str
    waited_ms: float | None
    wait_event: str | None
    blocks: list[BlockerRow]


class TransactionRow(Struct, frozen=True):
    """A transaction open for long."""

    process: int
    application: str
    user: str
    open_ms: int
    idle_ms: int
    last_statement: str


class LiveDocument(Struct, frozen=True):
    """What sampling showed; times are estimated from the looks."""

    capture: CaptureDocument
    looks: int
    span_ms: float
    pause_ms: float
    statements: list[RunningRow]
    waits: list[WaitRow]
    blockers: list[BlockerRow]
    long_transactions: list[TransactionRow]
    kind: Literal["live"] = "live"
    version: Literal[1] = 1


def capture_document(entry: CaptureEntry) -> CaptureDocument:
    """One capture."""
    return CaptureDocument(
        id=entry.id,
        source=entry.source,
        place=entry.place,
        lines=entry.lines,
        kept_runs=entry.kept,
        queries=entry.queries,
        new_queries=entry.new_queries,
        passed_over=entry.passed_over,
        first_unreadable=entry.first_unreadable,
        first_run=entry.first_run,
        last_run=entry.last_run,
        status=entry.status,
        entries=entry.entries,
        plans=entry.plans,
        incidents=entry.incidents,
        notes=[in_words(note) for note in entry.notes],
    )


def script_document(found: ScriptCapture) -> ScriptDocument:
    """A script, statement by statement."""
    rows = [
        ScriptStatementRow(
            each.line,
            each.column,
            each.sql,
            each.query or None,
            each.plan or None,
            each.cost,
            rounded(each.duration_ms),
            each.fault or None,
            each.why_not or each.not_run or None,
        )
        for each in found.rows
    ]
    return ScriptDocument(capture_document(found.entry), rows)


def live_document(found: LiveCapture) -> LiveDocument:
    """What sampling showed."""
    samples = found.samples
    return LiveDocument(
        capture=capture_document(found.entry),
        looks=samples.looks,
        span_ms=round(samples.seconds * 1000, 1),
        pause_ms=round(samples.sample_ms, 1),
        statements=[
            RunningRow(
                found.queries.get(each.sql), each.pid, each.application, each.user, each.sql,
                round(each.lasted_ms, 1), each.samples,
            )
            for each in sorted(
                samples.statements.values(), key=lambda each: each.lasted_ms, reverse=True
            )
        ],
        waits=[
            WaitRow(None, kind, event, count, round(count * samples.sample_ms, 1))
            for (kind, event), count in sorted(samples.waits().items(), key=lambda i: -i[1])
        ],
        blockers=[_blocker(branch) for branch in found.blockers],
        long_transactions=[
            TransactionRow(
                each.pid, each.application, each.user, round(each.open_s * 1000),
                round(each.idle_s * 1000), each.last_sql,
            )
            for each in samples.long_transactions()
        ],
    )  # fmt: skip


def _blocker(branch: BlockerBranch) -> BlockerRow:
    return BlockerRow(
        branch.pid,
        branch.state,
        branch.sql,
        None if branch.waited_s is None else round(branch.waited_s * 1000, 1),
        branch.wait_event or None,
        [_blocker(below) for below in branch.below],
    )
