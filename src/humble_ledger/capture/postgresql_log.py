"""PostgreSQL's plain-text log to observations.

An entry starts with a line that carries the prefix and a level; lines without them continue
it. A statement's parameters come in a DETAIL entry of the same process, so that each process
keeps its last statement open until it says something else. Whatever cannot be read is
counted with its place, and skipped.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from humble_ledger.capture.log_prefix import line_pattern
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of
from humble_ledger.core.workload.observations import Observation

_DURATION = re.compile(
    r"duration: (?P<ms>\d+(?:\.\d+)?) ms"
    r"(?:  (?P<step>statement|parse [^:]*|bind [^:]*|execute [^:]*): (?P<sql>.*))?",
    re.DOTALL,
)
_PARAMETERS = re.compile(r"(?:parameters|Parameters): (?P<list>\$1 = .*)", re.DOTALL)
_PARAMETER = re.compile(r"\$(\d+) = (NULL|'(?:[^']|'')*')(?:, )?", re.DOTALL)
_ZONES = {"UTC": UTC, "GMT": UTC, "Z": UTC}
_ADDENDA = frozenset(("DETAIL", "HINT", "QUERY", "CONTEXT", "LOCATION", "STATEMENT"))
OWN_APPLICATION = "humble-ledger"


@dataclass(slots=True)
class LogTally:
    """What was read: lines, entries, statements kept, and what was passed over and why."""

    lines: int = 0
    entries: int = 0
    kept: int = 0
    passed_over: dict[str, int] = field(default_factory=dict)
    first_unreadable: str = ""

    def pass_over(self, reason: str) -> None:
        """Count something that was not kept."""
        self.passed_over[reason] = self.passed_over.get(reason, 0) + 1


@dataclass(slots=True)
class _Entry:
    fields: dict[str, str]
    level: str
    message: list[str]

    @property
    def process(self) -> str:
        return self.fields.get("pid") or self.fields.get("session") or ""


@dataclass(slots=True)
class _Open:
    """A statement of a process that may still get its parameters."""

    entry: _Entry
    duration_ms: float
    sql: str
    values: tuple[str | None, ...] = ()


def read_log(
    lines: Iterable[str], prefix: str | None, name: str, tally: LogTally
) -> Iterator[Observation]:
    """Every statement with its duration in a plain log, in the order in which it is complete.

    ``prefix`` is the server's log_line_prefix, None to recognise the common forms; ``name``
    names the source in the tally.
    """
    opened: dict[str, _Open] = {}
    for entry in _entries(lines, line_pattern(prefix), name, tally):
        tally.entries += 1
        if entry.level in _ADDENDA:
            _add_parameters(opened.get(entry.process), entry)
            continue
        finished = opened.pop(entry.process, None)
        if finished is not None:
            yield from _observe(finished, tally)
        if entry.level == "LOG":
            begun = _statement(entry, tally)
            if begun is not None:
                opened[entry.process] = begun
    for left in opened.values():
        yield from _observe(left, tally)


def _entries(
    lines: Iterable[str], pattern: re.Pattern[str], name: str, tally: LogTally
) -> Iterator[_Entry]:
    current: _Entry | None = None
    for number, line in enumerate(lines, start=1):
        tally.lines += 1
        text = line.rstrip("\r\n")
        match = pattern.match(text)
        if match is not None:
            if current is not None:
                yield current
            groups = {k: v for k, v in match.groupdict().items() if v is not None}
            current = _Entry(groups, groups.pop("level"), [groups.pop("message")])
        elif current is not None and text.startswith("\t"):
            current.message.append(text[1:])  # the server puts a tab before continuations
        elif text.strip():
            tally.pass_over("unreadable line")
            tally.first_unreadable = tally.first_unreadable or f"{name}, line {number}"
    if current is not None:
        yield current


def _statement(entry: _Entry, tally: LogTally) -> _Open | None:
    match = _DURATION.fullmatch("\n".join(entry.message))
    if match is None:
        return None
    if match["sql"] is None:
        tally.pass_over("duration without its statement")
        return None
    if not match["step"].startswith(("statement", "execute")):
        return None  # parse and bind are steps of the execution that follows
    return _Open(entry, float(match["ms"]), match["sql"].strip())


def _add_parameters(opened: _Open | None, entry: _Entry) -> None:
    if opened is None or entry.level != "DETAIL":
        return
    match = _PARAMETERS.match("\n".join(entry.message))
    if match is not None:
        values = {int(m[1]): _value(m[2]) for m in _PARAMETER.finditer(match["list"])}
        opened.values = tuple(values.get(n) for n in range(1, max(values, default=0) + 1))


def _value(text: str) -> str | None:
    return None if text == "NULL" else text[1:-1].replace("''", "'")


def _observe(opened: _Open, tally: LogTally) -> Iterator[Observation]:
    fields = opened.entry.fields
    if fields.get("application", "").startswith(OWN_APPLICATION):
        tally.pass_over("our own statement")
        return
    if kind_of(opened.sql) is StatementKind.NO_PLAN:
        tally.pass_over("statement without a plan")
        return
    logged = _time(fields)
    tally.kept += 1
    yield Observation(
        statement=Statement(opened.sql, opened.values),
        duration_ms=opened.duration_ms,
        # The log's time is the end of the statement.
        started_at=logged - timedelta(milliseconds=opened.duration_ms) if logged else None,
        user=fields.get("user", ""),
        database=fields.get("database", ""),
        application=fields.get("application", ""),
        session=opened.entry.process,
    )


def _time(fields: dict[str, str]) -> datetime | None:
    if "epoch" in fields:
        return datetime.fromtimestamp(float(fields["epoch"]), UTC)
    if "time" not in fields:
        return None
    stamp, _, zone = fields["time"].rpartition(" ")
    moment = datetime.fromisoformat(stamp)
    # A zone's short name does not tell its offset; only UTC's is beyond doubt.
    return moment.replace(tzinfo=_ZONES.get(zone))
