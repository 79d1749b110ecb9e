"""What PostgreSQL's messages mean: durations, statements, plans, incidents."""

from __future__ import annotations

import re
from dataclasses import dataclass

from humble_ledger.capture.executions import PREPARED, executed
from humble_ledger.capture.log_rows import (
    DETAIL,
    HAPPENED,
    KEY,
    LITERALS,
    NO_DURATION,
    OWN,
    PLANNED,
    SENT,
    TOOK,
    BlockWriter,
    Row,
    duration_ms,
)
from humble_ledger.core.workload.incidents import IncidentKind

_APART = re.compile(r"(?:statement|execute [^:]*): (?P<sql>.*)", re.DOTALL)


@dataclass(frozen=True, slots=True)
class _Sign:
    """How a message shows an incident: the pattern, its amount in the first group."""

    kind: IncidentKind
    pattern: re.Pattern[str]


_SIGNS = (
    _Sign(IncidentKind.TEMPORARY_FILE, re.compile(r"temporary file: path .*, size (\d+)")),
    _Sign(
        IncidentKind.LOCK_WAIT,
        re.compile(r"process \d+ still waiting for .* after (\d+\.?\d*) ms", re.DOTALL),
    ),
    _Sign(
        IncidentKind.LOCK_WAITED,
        re.compile(r"process \d+ acquired .* after (\d+\.?\d*) ms", re.DOTALL),
    ),
    _Sign(IncidentKind.DEADLOCK, re.compile(r"deadlock detected()")),
    _Sign(
        IncidentKind.CANCELLED,
        re.compile(r"canceling statement due to ()(?!lock timeout)", re.DOTALL),
    ),
    _Sign(IncidentKind.LOCK_TIMEOUT, re.compile(r"canceling statement due to ()lock timeout")),
    _Sign(
        IncidentKind.CHECKPOINT,
        re.compile(r"checkpoint complete: .*?total=(\d+\.?\d*) s", re.DOTALL),
    ),
    _Sign(IncidentKind.CHECKPOINTS_TOO_OFTEN, re.compile(r"checkpoints are occurring too ()")),
)
_SECONDS = (IncidentKind.CHECKPOINT,)
# The first letters of every message that may matter: most of a log is told by these alone.
_BEGINNINGS = ("statement:", "execute ", "temporary", "process ", "deadlock", "canceling",
               "checkpoint")  # fmt: skip


def row_of(
    writer: BlockWriter,
    message: str,
    stamp: str,
    session: str,
    client: int,
    detail: str = "",
) -> Row | None:
    """The row of an entry; None when it tells nothing we keep."""
    if not message.startswith("duration: "):
        if not message.startswith(_BEGINNINGS):
            return None
        return None if client < 0 else _other(writer, message, stamp, session, client, detail)
    if client < 0:
        writer.block.pass_over(OWN)
        return None
    end = message.find(" ms", 10)
    duration = duration_ms(message[10:end])
    if duration is None:
        writer.block.pass_over(NO_DURATION)
        return None
    rest = end + 5  # behind " ms  "
    if message.startswith("statement: ", rest):
        sql = message[rest + 11 :]
    elif message.startswith("execute ", rest):
        sql = message[message.find(": ", rest) + 2 :]
    elif message.startswith("plan:", rest):
        plan = message[rest + 5 :].lstrip()
        return [PLANNED, writer.time(stamp), session, client, duration, -1, None, plan]
    elif len(message) == end + 3:
        return [TOOK, writer.time(stamp), session, client, duration, -1, None, ""]
    else:
        return None  # parse and bind are steps of the execution that follows
    return writer.run(sql, stamp, session, client, duration, detail)


def add_statement(writer: BlockWriter, row: Row, sql: str) -> None:
    """Tell an incident which statement it hit."""
    if row[0] == HAPPENED and sql:
        before = dict(writer.block.passed_over)
        row[KEY], row[LITERALS] = writer.statement(sql)
        writer.block.passed_over = before  # it is no run that was passed over


def add_detail(writer: BlockWriter, row: Row, detail: str) -> None:
    """Add an entry's DETAIL."""
    if row[0] == HAPPENED:
        kind, words = row[DETAIL]
        row[DETAIL] = (kind, f"{words}\n{detail}")
    elif detail.startswith(PREPARED):
        if isinstance(row[LITERALS], str):  # a run, whose text has not been cut yet
            row[LITERALS], row[DETAIL] = executed(row[LITERALS], detail)
    else:
        row[DETAIL] = detail


def _other(
    writer: BlockWriter, message: str, stamp: str, session: str, client: int, detail: str
) -> Row | None:
    sent = _APART.fullmatch(message)
    if sent is not None:
        sql = sent["sql"]
        if detail.startswith(PREPARED):
            sql, detail = executed(sql, detail)
        key, literals = writer.statement(sql)
        # One that is not kept must still take the duration that follows it.
        return [SENT, writer.time(stamp), session, client, 0.0, key, literals, detail]
    for sign in _SIGNS:
        match = sign.pattern.match(message)
        if match is not None:
            amount = _amount(match[1])
            if amount is not None and sign.kind in _SECONDS:
                amount *= 1000.0
            words = f"{message}\n{detail}" if detail else message
            moment = writer.time(stamp)
            return [HAPPENED, moment, session, client, amount, -1, None, (sign.kind.value, words)]
    return None


def _amount(text: str) -> float | None:
    """An incident's bytes or ms; None when it has none, or one that cannot be."""
    found = float(text) if text else None
    return found if found is not None and found < _MOST else None


_MOST = 1e18
