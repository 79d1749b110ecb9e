"""Entries of a log to observations: statements with duration, values and who sent them.

The server writes the duration beside the statement (log_min_duration_statement), or apart
from it in a later entry of the same process (log_statement with log_duration); both are read.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import timedelta

from humble_ledger.capture.log_entries import LogEntry, LogTally
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.core.workload.observations import Observation

_DURATION = re.compile(
    r"duration: (?P<ms>\d+(?:\.\d+)?) ms(?:  (?P<step>\w+)(?: [^:]*)?: (?P<sql>.*))?", re.DOTALL
)
_APART = re.compile(r"(?P<step>statement|execute [^:]*): (?P<sql>.*)", re.DOTALL)
_PARAMETERS = re.compile(r"[Pp]arameters: (?P<list>\$1 = .*)", re.DOTALL)
_PARAMETER = re.compile(r"\$(\d+) = (NULL|'(?:[^']|'')*')(?:, )?", re.DOTALL)
OWN_APPLICATION = "humble-ledger"


def observations(entries: Iterable[LogEntry], tally: LogTally) -> Iterator[Observation]:
    """Every statement whose duration the log tells."""
    apart: dict[str, LogEntry] = {}
    for entry in entries:
        if entry.level != "LOG":
            continue
        match = _DURATION.fullmatch(entry.message)
        if match is None:
            if _APART.fullmatch(entry.message):
                apart[entry.process] = entry
            continue
        if match["sql"] is not None:
            if match["step"] in ("statement", "execute"):
                yield from _observe(entry, float(match["ms"]), match["sql"], entry, tally)
            continue  # parse and bind are steps of the execution that follows
        sent = apart.pop(entry.process, None)
        if sent is None:
            tally.pass_over("duration without its statement")
            continue
        text = _APART.fullmatch(sent.message)
        assert text is not None
        yield from _observe(sent, float(match["ms"]), text["sql"], entry, tally)


def _observe(
    entry: LogEntry, duration_ms: float, sql: str, ended: LogEntry, tally: LogTally
) -> Iterator[Observation]:
    """The observation, unless there is a reason to pass it over."""
    if entry.application.startswith(OWN_APPLICATION):
        tally.pass_over("our own statement")
        return
    sql = sql.strip()
    if kind_of(sql) is StatementKind.NO_PLAN:
        tally.pass_over("statement without a plan")
        return
    end = ended.time
    tally.kept += 1
    yield Observation(
        statement=Statement(sql, _values(entry.detail)),
        duration_ms=duration_ms,
        # The log's time is the end of the statement.
        started_at=end - timedelta(milliseconds=duration_ms) if end else None,
        user=entry.user,
        database=entry.database,
        application=entry.application,
        session=entry.process,
    )


def _values(detail: str) -> tuple[str | None, ...]:
    match = _PARAMETERS.match(detail) if detail else None
    if match is None:
        return ()
    values = {int(m[1]): _value(m[2]) for m in _PARAMETER.finditer(match["list"])}
    return tuple(values.get(n) for n in range(1, max(values, default=0) + 1))


def _value(text: str) -> str | None:
    return None if text == "NULL" else text[1:-1].replace("''", "'")
