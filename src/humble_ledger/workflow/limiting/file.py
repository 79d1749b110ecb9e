"""The file of limits, TOML for people to read and change: see docs/guide/limits.md."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
import tomli_w

from humble_ledger.capture.scripts import ScriptStatement, read_script
from humble_ledger.core.limits.model import Allowed, Limited, TimeLimit, Unlimited
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.core.statements.kinds import Statement, StatementKind, kind_of, shorten
from humble_ledger.errors import UnreadableInput

FILE_NAME = "limits.toml"
VERSION = 1
_SIMPLE = (
    "cost", "pages", "rows_read_per_row", "no_full_scan_of", "uses_index", "no_spill",
    "estimates_within",
)  # fmt: skip


class _Time(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    at_most: float | None = None
    baseline_ms: float | None = None
    beside: str = ""
    at_most_ms: float | None = None


class _Entry(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str = ""
    sql: str = ""
    file: str = ""
    statement: int | None = None
    parameters: list[str] = []
    cost: float | None = None
    pages: int | None = None
    rows_read_per_row: float | None = None
    no_full_scan_of: list[str] = []
    uses_index: list[str] = []
    no_spill: bool = False
    estimates_within: float | None = None
    time: _Time | None = None
    plan: list[str] = []


class _Document(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    version: int
    statements: str = ""
    limit: list[_Entry] = []


@dataclass(frozen=True, slots=True)
class LimitsFile:
    """What a file of limits says; ``folder`` has the statements that are to have limits."""

    path: Path
    limited: tuple[Limited, ...] = ()
    folder: Path | None = None
    unlimited: tuple[Unlimited, ...] = field(default=())

    def names_for(self, fingerprint: str) -> list[str]:
        """The names of the limits that this statement has already."""
        return [
            each.name
            for each in self.limited
            if normalise(each.statement.sql).fingerprint == fingerprint
        ]


def read_limits(path: Path) -> LimitsFile:
    """Read a file of limits, and the files of statements that it names.

    Raises:
        UnreadableInput: a file cannot be read, or says what nobody understands; tells where.
    """
    document = _document(path)
    limited: list[Limited] = []
    for number, entry in enumerate(document.limit, 1):
        limited += _limited(path, entry, number)
    folder = path.parent / document.statements if document.statements else None
    found = LimitsFile(path, tuple(limited), folder)
    if folder is None:
        return found
    known = {normalise(each.statement.sql).fingerprint for each in limited}
    return LimitsFile(path, tuple(limited), folder, tuple(_without_limits(path, folder, known)))


def _document(path: Path) -> _Document:
    try:
        found = tomllib.loads(path.read_text(encoding="utf-8"))
        document = msgspec.convert(found, _Document)
    except OSError as error:
        raise UnreadableInput(
            f"{path} cannot be read: {error.strerror}.",
            "Propose limits from the ledger with:  humble limits set",
        ) from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, msgspec.ValidationError) as error:
        raise _unclear(path, str(error)) from error
    if document.version != VERSION:
        raise _unclear(path, f"it is of version {document.version}, and this one reads {VERSION}")
    return document


def _unclear(path: Path, why: str) -> UnreadableInput:
    return UnreadableInput(
        f"{path} is no file of limits that can be read: {why}.",
        "What it may say is told in docs/guide/limits.md",
    )


def _limited(path: Path, entry: _Entry, number: int) -> Iterable[Limited]:
    name = entry.name or entry.file or f"limit {number}"
    if bool(entry.sql) == bool(entry.file):
        raise _unclear(path, f"{name} must have either sql or file")
    allowed = _allowed(path, name, entry)
    if entry.sql:
        values = tuple(entry.parameters)
        line = _line_of(path, entry)
        yield Limited(
            name, Statement(entry.sql.strip().rstrip(";"), values), allowed, f"{path}:{line}", line,
            tuple(entry.plan),
        )  # fmt: skip
        return
    there = _statements(path.parent / entry.file)
    if entry.statement is not None:
        if not 1 <= entry.statement <= len(there):
            raise _unclear(
                path,
                f"{name} is about statement {entry.statement}, and {entry.file} has {len(there)}",
            )
        there = [there[entry.statement - 1]]
    for place, each in enumerate(there, 1):
        one = len(there) == 1
        yield Limited(
            name if one else f"{name} {place}",
            Statement(each.sql, tuple(entry.parameters)),
            allowed,
            f"{path.parent / entry.file}:{each.line}",
            each.line,
            tuple(entry.plan) if one else (),
        )


def _allowed(path: Path, name: str, entry: _Entry) -> Allowed:
    time = None
    if entry.time is not None:
        given = entry.time
        against = [bool(given.beside), given.baseline_ms is not None]
        absolute = given.at_most_ms is not None
        if absolute == any(against) or all(against) or (given.at_most is None) != absolute:
            raise _unclear(
                path,
                f"the time of {name} must be at_most with baseline_ms, at_most with beside, or "
                "at_most_ms alone",
            )
        time = TimeLimit(given.at_most, given.baseline_ms, given.beside, given.at_most_ms)
    return Allowed(
        entry.cost, entry.pages, entry.rows_read_per_row, tuple(entry.no_full_scan_of),
        tuple(entry.uses_index), entry.no_spill, entry.estimates_within, time,
    )  # fmt: skip


def _line_of(path: Path, entry: _Entry) -> int:
    """The line of the file where an entry has its statement, as near as it can be told."""
    first = next((line for line in entry.sql.splitlines() if line.strip()), "")
    for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1):
        if first.strip() and first.strip() in line.replace('\\"', '"'):
            return number
    return 1


def _statements(path: Path) -> list[ScriptStatement]:
    try:
        text = path.read_text(encoding="utf-8", errors="replace")
    except OSError as error:
        raise UnreadableInput(
            f"{path} cannot be read: {error.strerror}.", "It is named in the file of limits."
        ) from error
    return [
        each
        for each in read_script(text).statements
        if kind_of(each.sql) is not StatementKind.NO_PLAN
    ]


def statements_below(folder: Path) -> list[tuple[Path, int, ScriptStatement]]:
    """Every statement with a plan of the .sql files of a folder: its file, its number there."""
    return [
        (path, number, each)
        for path in sorted(folder.rglob("*.sql"))
        for number, each in enumerate(_statements(path), 1)
    ]


def _without_limits(path: Path, folder: Path, known: set[str]) -> Iterable[Unlimited]:
    if not folder.is_dir():
        raise _unclear(path, f"there is no folder {folder} of statements")
    for file, _, each in statements_below(folder):
        if normalise(each.sql).fingerprint not in known:
            yield Unlimited(f"{file}:{each.line}", each.line, shorten(each.sql, 70))


def written(limited: Sequence[tuple[Limited, Mapping[str, Any]]], *, head: bool) -> str:
    """Limits as text of the file; beside each what tells where its statement stands."""
    parts = [f"version = {VERSION}\n"] if head else []
    for each, where in limited:
        parts.append(tomli_w.dumps({"limit": [_table(each, where)]}, multiline_strings=True))
    return "\n".join(parts)


def _table(limited: Limited, where: Mapping[str, Any]) -> dict[str, Any]:
    allowed = limited.allowed
    found: dict[str, Any] = {"name": limited.name, **where}
    for name in _SIMPLE:
        value = getattr(allowed, name)
        if value not in (None, (), False):
            whole = isinstance(value, float) and value == round(value)
            found[name] = (
                int(value) if whole else list(value) if isinstance(value, tuple) else value
            )
    if limited.outline:
        found["plan"] = list(limited.outline)
    if allowed.time is not None:
        told = msgspec.structs.asdict(
            _Time(allowed.time.at_most, allowed.time.baseline_ms, allowed.time.beside,
                  allowed.time.at_most_ms)
        )  # fmt: skip
        found["time"] = {name: value for name, value in told.items() if value not in (None, "")}
    return found
