"""Capturing: observations from a source become runs of queries in the ledger."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from humble_ledger.capture.files import LineReader, Position, opened, start_offset
from humble_ledger.capture.postgresql_log import LogTally, read_log
from humble_ledger.core.entries import CaptureEntry
from humble_ledger.core.workload.observations import Observation
from humble_ledger.errors import HumbleError
from humble_ledger.workflow.workspace import Workspace

Progress = Callable[[str], None]


@dataclass(slots=True)
class _Finish:
    tally_: LogTally
    readers: dict[str, LineReader] = field(default_factory=dict)

    def tally(self) -> tuple[int, dict[str, int], str]:
        return self.tally_.lines, self.tally_.passed_over, self.tally_.first_unreadable

    def positions(self) -> Iterable[tuple[str, str, int, int]]:
        for path, reader in self.readers.items():
            at = reader.position
            yield path, at.head, at.head_bytes, at.offset


def capture_log(
    workspace: Workspace,
    files: Sequence[Path],
    prefix: str | None = None,
    again: bool = False,
    progress: Progress = lambda _: None,
) -> CaptureEntry:
    """Read PostgreSQL's plain log files into the ledger, each from where it was left.

    ``prefix`` is the server's log_line_prefix; without it the target is asked, and when
    there is none the common forms are recognised. ``again`` reads from the start.

    Raises:
        UnreadableInput: a file cannot be opened; nothing is kept then.
    """
    ledger = workspace.ledger
    finish = _Finish(LogTally())
    starts: dict[Path, int] = {}
    for file in files:
        opened(file)
        before = None if again else ledger.captures.position(str(file.resolve()))
        starts[file] = start_offset(file, Position(*before) if before else None)
    settled = prefix if prefix is not None else _prefix_of_target(workspace)

    def observations() -> Iterator[Observation]:
        for file, offset in starts.items():
            progress(f"reading {file}" + (f" from byte {offset:,}" if offset else ""))
            reader = LineReader(file, offset)
            finish.readers[str(file.resolve())] = reader
            yield from read_log(reader, settled, file.name, finish.tally_)

    place = ", ".join(file.name for file in files)
    return ledger.captures.keep("log", place, observations(), finish=finish)


def _prefix_of_target(workspace: Workspace) -> str | None:
    """The target's own setting; a target that is away is no reason not to read a file."""
    if not workspace.has_target:
        return None
    try:
        return workspace.session.server.texts.get("log_line_prefix")
    except HumbleError:
        return None
