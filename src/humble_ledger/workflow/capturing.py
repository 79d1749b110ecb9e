"""Capturing: observations from a source become runs of queries in the ledger."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from humble_ledger.capture.files import (
    STANDARD_INPUT,
    LineReader,
    Position,
    head_of,
    position_of,
    spooled_standard_input,
)
from humble_ledger.capture.log_entries import LogTally
from humble_ledger.capture.logs import read_log
from humble_ledger.core.entries import CaptureEntry, ReadPosition
from humble_ledger.core.workload.observations import Observation
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace

DAMAGED = "file that breaks off"


@dataclass(slots=True)
class _Log:
    """One log of a capture: its path as the user gave it, and how far it had been read."""

    shown: Path
    path: Path
    before: Position | None
    reader: LineReader


@dataclass(slots=True)
class _Finish:
    """What the ledger asks for when all logs have been read."""

    tally_: LogTally = field(default_factory=LogTally)
    logs: list[_Log] = field(default_factory=list)

    def tally(self) -> tuple[int, dict[str, int], str]:
        return self.tally_.lines, self.tally_.passed_over, self.tally_.first_unreadable

    def positions(self) -> Iterable[tuple[ReadPosition | None, ReadPosition]]:
        for log in self.logs:
            at, path = log.reader.position, str(log.shown)
            before = log.before
            yield (
                ReadPosition(path, before.head, before.head_bytes, before.offset)
                if before
                else None,
                ReadPosition(path, at.head, at.head_bytes, at.offset),
            )


def capture_log(
    workspace: Workspace,
    files: Sequence[Path],
    prefix: str | None = None,
    again: bool = False,
    progress: Progress = lambda _: None,
) -> CaptureEntry:
    """Read PostgreSQL's logs (plain, csv or JSON; .gz, .xz, .zst; - for standard input).

    Each log is read on from where it was left, also when it was renamed or compressed since;
    several are read in the order of time. ``prefix`` is the server's log_line_prefix; without
    it the target is asked, and when there is none the common forms are recognised. ``again``
    reads from the start.

    Raises:
        UnreadableInput: a file cannot be opened; nothing is kept then.
    """
    ledger = workspace.ledger
    known = [Position(p.head, p.head_bytes, p.offset) for p in ledger.captures.positions()]
    spooled = spooled_standard_input() if STANDARD_INPUT in files else None
    try:
        logs = []
        for shown in dict.fromkeys(files):
            path = spooled if spooled is not None and shown == STANDARD_INPUT else shown
            head_of(path, 1)  # all files must open before anything is read
            before = position_of(path, known)
            start = before.offset if before is not None and not again else 0
            logs.append(_Log(shown, path, before, LineReader(path, start, shown.name)))
        finish = _Finish(logs=sorted(logs, key=lambda log: log.path.stat().st_mtime))
        settled = prefix if prefix is not None else _prefix_of_target(workspace)
        place = ", ".join(file.name for file in dict.fromkeys(files))
        found = _observations(finish, settled, progress)
        return ledger.captures.keep("log", place, found, finish=finish)
    finally:
        if spooled is not None:
            spooled.unlink()


def _observations(finish: _Finish, prefix: str | None, progress: Progress) -> Iterator[Observation]:
    for log in finish.logs:
        progress(f"reading {log.shown}")
        yield from read_log(log.reader, prefix, finish.tally_)
        if log.reader.damage:
            finish.tally_.pass_over(DAMAGED)
            where = f"{log.reader.name}: {log.reader.damage}"
            finish.tally_.first_unreadable = finish.tally_.first_unreadable or where


def _prefix_of_target(workspace: Workspace) -> str | None:
    """The target's own setting; a target that is away is no reason not to read a file."""
    if not workspace.has_target:
        return None
    try:
        return workspace.session.server.texts.get("log_line_prefix")
    except HumbleError:
        return None
