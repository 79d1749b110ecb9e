"""Capturing log files: read block by block, kept part by part, gone on where it stopped."""

from __future__ import annotations

import gc
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from humble_ledger.capture.application import APPLICATION
from humble_ledger.capture.assembly import Assembler, Tally, Waiting
from humble_ledger.capture.files import (
    LogReader,
    Packing,
    Position,
    head_of,
    must_be_spooled,
    packing_of,
    position_of,
    spooled,
)
from humble_ledger.capture.logs import form_of
from humble_ledger.capture.places import LogPlace, places_of
from humble_ledger.capture.reading import Desk, read_onto
from humble_ledger.core.entries import CaptureEntry, ReadPosition
from humble_ledger.core.symptoms.in_workload.repetition import repetition_symptoms
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.core.workload.parts import take_in
from humble_ledger.engines.contract import LogFormat
from humble_ledger.errors import HumbleError, UnreadableInput, WrongUsage
from humble_ledger.ledger.captures import DONE, STOPPED, CaptureTally, CaptureWriter, PositionMove
from humble_ledger.workflow.capturing.log_forms import log_forms, packed_waiting, waiting_of
from humble_ledger.workflow.capturing.logged_plans import BestPlans
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace

# A part is kept in one transaction: often enough that little is read again after a crash.
PART_BYTES = 16 * 1024 * 1024
PART_THINGS = 60_000
MOST_NAMED = 20
_TELL_EVERY_S = 0.2


@dataclass(slots=True)
class _Log:
    """One log of a capture: its path as the user gave it, and how far it had been read."""

    shown: LogPlace
    path: LogPlace
    before: ReadPosition | None
    start: int
    reader: LogReader
    packing: Packing

    @property
    def size(self) -> int | None:
        """Its bytes, None when it is packed: nobody knows before it is read."""
        return self.path.stat().st_size if self.packing is Packing.NONE else None


@dataclass(slots=True)
class _Reading:
    """What one capture has on its desk."""

    writer: CaptureWriter
    desk: Desk
    plans: BestPlans
    mask: bool
    done_bytes: int = 0
    part_bytes: int = 0
    began: float = field(default_factory=time.monotonic)

    def figures(self) -> CaptureTally:
        tally = self.desk.tally
        return CaptureTally(
            tally.lines, tally.entries, self.plans.seen, tally.passed_over, tally.first_unreadable
        )


def capture_logs(
    workspace: Workspace,
    files: Sequence[str | Path],
    prefix: str | None = None,
    again: bool = False,
    mask: bool = False,
    on: str = "",
    progress: Progress = lambda _: None,
    *,
    of_server: bool = False,
) -> CaptureEntry:
    """Read logs of a server or of an application (plain or .gz, .xz, .zst; - for standard input).

    A URL names a log that is elsewhere, with ``*`` many. ``on`` is the address of a cluster's
    scheduler whose workers read the logs, one each; they must reach them by the same names.
    With ``of_server`` the target hands out its own logs through the connection.

    Each log is read on from where it was left, also when it was renamed or compressed since;
    several are read in the order of time. ``prefix`` is how the server begins each line; without
    it the target is asked, and when there is none the common forms are recognised. ``again``
    reads from the start. With ``mask`` (or when the folder's configuration says so) no
    literal is kept.

    Raises:
        UnreadableInput: a file cannot be opened, or none of them is a log we know.
        WrongUsage: nothing names a log, or the target hands out none.
        KeyboardInterrupt: stopped by the user; what was read so far is kept.
    """
    mask = mask or workspace.configuration.mask
    given = _given(workspace, files, on, of_server)
    copies: dict[LogPlace, Path] = {}
    try:
        for shown in given:
            if must_be_spooled(shown):
                if on:
                    raise WrongUsage(
                        f"{shown} can be read once, and here only.", "Capture it without  --on"
                    )
                copies[shown] = spooled(shown)
        logs = _opened(workspace, given, copies, again)
        settled = prefix if prefix is not None else _prefix_of_target(workspace)
        place = _place_words(given)
        # By how each begins: of one that was read there may be nothing more.
        starts = [LogReader(log.path).first_bytes() for log in logs]
        forms = [form_of(log_forms(), start, settled) for start in starts]
        reading = _desk(workspace, place, mask, _source(forms))
        try:
            with _without_looking_for_cycles():
                if on:
                    _read_elsewhere(reading, on, logs, settled, progress)
                else:
                    for log in logs:
                        _read(reading, log, settled, logs, progress)
        except KeyboardInterrupt:
            _finish(workspace, reading, STOPPED)
            raise
        except HumbleError:
            if reading.writer.begun:
                _finish(workspace, reading, STOPPED)
            raise
        known = any(log.before is not None for log in logs)
        tally = reading.desk.tally
        if not known and not tally.entries and (tally.first_unreadable or tally.passed_over):
            raise _no_log(given, tally)
        return _finish(workspace, reading, DONE)
    finally:
        for copy in copies.values():
            copy.unlink()


def _given(
    workspace: Workspace, files: Sequence[str | Path], on: str, of_server: bool
) -> list[LogPlace]:
    """The logs that the words of the user name, and those that the target hands out."""
    named: list[LogPlace] = list(dict.fromkeys(p for text in files for p in places_of(text)))
    if not of_server:
        if not named:
            raise WrongUsage(
                "No log is named.", "Name files, or let the target hand out its own:  --from-server"
            )
        return named
    if on:
        raise WrongUsage(
            "What a server hands out comes through our connection, and not to a cluster.",
            "Leave out  --on  or  --from-server",
        )
    found = workspace.session.logs()
    if not found:
        raise UnreadableInput(
            "The server has written nothing into its log yet.",
            "See what it writes:  humble preflight",
        )
    return [*named, *found]


@contextmanager
def _without_looking_for_cycles() -> Iterator[None]:
    """Rows come and go by the million and make no cycles; looking for some doubles the time."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def _place_words(given: Sequence[LogPlace]) -> str:
    """The names of the logs; of a fleet's the first, and how many more."""
    names = [each.name for each in given]
    more = len(names) - MOST_NAMED
    return ", ".join(names[:MOST_NAMED]) + (f" and {more:,} more" if more > 0 else "")


def _source(forms: Sequence[LogFormat]) -> str:
    """The kind of source of logs.

    Raises:
        WrongUsage: some are a server's and some an application's, which tell of the same runs.
    """
    kinds = {APPLICATION if form.engine == APPLICATION else "log" for form in forms}
    if len(kinds) > 1:
        raise WrongUsage(
            "Some of these are logs of a server, some of an application: they may tell of the "
            "same runs.",
            "Capture them one after the other; each is a kind of source of its own.",
        )
    return kinds.pop()


def _desk(workspace: Workspace, place: str, mask: bool, source: str) -> _Reading:
    gathering, tally, plans = Gathering(), Tally(), BestPlans(mask)
    assembler = Assembler(gathering, tally, plans.saw, mask)
    writer = workspace.ledger.captures.begin(source, place)
    return _Reading(writer, Desk(gathering, tally, assembler), plans, mask)


def _opened(
    workspace: Workspace, files: Sequence[LogPlace], copies: Mapping[LogPlace, Path], again: bool
) -> list[_Log]:
    """All logs, the oldest first; each must open before anything is read."""
    kept = workspace.ledger.captures.positions()
    known = {Position(p.head, p.head_bytes, p.offset): p for p in kept}
    logs = []
    for shown in files:
        path = copies.get(shown, shown)
        head_of(path, 1)
        at = position_of(path, known)
        before = known[at] if at is not None else None
        start = before.offset if before is not None and not again else 0
        reader = LogReader(path, start, shown.name)
        logs.append(_Log(shown, path, before, start, reader, packing_of(path)))
    return sorted(logs, key=lambda log: log.path.stat().st_mtime)


def _read(
    reading: _Reading, log: _Log, prefix: str | None, logs: Sequence[_Log], progress: Progress
) -> None:
    on = reading.desk
    if log.before is not None and log.start:
        on.assembler.resume(waiting_of(log.before.waiting))
    before, end = log.before, log.start
    tell = _Telling(reading, log, logs, progress)
    size = (log.size or 8 * log.path.stat().st_size) - log.start
    for place in read_onto(on, log.reader, log_forms(), prefix, log.start, size):
        reading.writer.zoned &= on.zoned
        reading.done_bytes += place - end
        reading.part_bytes += place - end
        end = place
        tell(end)
        if reading.part_bytes >= PART_BYTES or on.gathering.size >= PART_THINGS:
            before = _keep_part(reading, log, before, end, on.assembler.waiting())
    if log.before is not None or on.tally.entries or not on.tally.lines:
        _keep_part(reading, log, before, end, on.assembler.leave())


def _read_elsewhere(
    reading: _Reading, on: str, logs: Sequence[_Log], prefix: str | None, progress: Progress
) -> None:
    """Let a cluster read the logs, and keep each in the order in which they would be read here."""
    # Only for those who have one, and its package.
    from humble_ledger.workflow.capturing.cluster import LogOrder, read_on  # noqa: PLC0415

    orders = [
        LogOrder(
            log.path, log.reader.name, log.start, log.before.waiting if log.before else b"",
            prefix, reading.mask,
        )
        for log in logs
    ]  # fmt: skip
    tally = reading.desk.tally
    # Of a packed log nobody knows what was read of it before.
    sizes = [max(each.path.stat().st_size - each.start, 0) for each in logs]
    for place, (log, found) in enumerate(zip(logs, read_on(on, orders, progress), strict=True), 1):
        tally.add(found.tally)
        reading.writer.zoned &= found.zoned
        harvest, group = take_in(reading.desk.gathering, found.part)
        reading.plans.add(found.plans, found.plans_seen, group)
        reading.done_bytes += sizes[place - 1]
        rate = reading.done_bytes / max(time.monotonic() - reading.began, 0.001)
        progress(
            f"read {place:,} of {len(logs):,} logs: {reading.done_bytes / 1e6:,.0f} of "
            f"{sum(sizes) / 1e6:,.0f} MB, {rate / 1e6:,.0f} MB/s"
        )
        if log.before is not None or tally.entries or not tally.lines:
            at = found.position
            now_at = ReadPosition(str(log.shown), at.head, at.head_bytes, at.offset, found.waiting)
            move = PositionMove(log.before, now_at, partial(_is_of, log))
            reading.writer.keep(harvest, [move], reading.figures())


def _keep_part(
    reading: _Reading,
    log: _Log,
    before: ReadPosition | None,
    end: int,
    waiting: Sequence[Waiting],
) -> ReadPosition:
    """Keep what was read with the place up to which it was: the two always fit."""
    at = log.reader.position_at(end)
    packed = packed_waiting(waiting, reading.mask)
    now_at = ReadPosition(str(log.shown), at.head, at.head_bytes, at.offset, packed)
    move = PositionMove(before, now_at, partial(_is_of, log))
    reading.writer.keep(reading.desk.gathering.harvest(), [move], reading.figures())
    reading.part_bytes = 0
    return now_at


def _is_of(log: _Log, position: ReadPosition) -> bool:
    """Whether a position is one of this log, under whatever name it was read."""
    length = position.head_bytes
    return length > 0 and head_of(log.path, length) == position.head


def _finish(workspace: Workspace, reading: _Reading, status: str) -> CaptureEntry:
    """Keep plans and what the whole of the capture shows, and close it."""
    if status == DONE:
        reading.writer.keep(reading.desk.gathering.harvest(ended=True), (), reading.figures())
    # Stopped early, the last part was not kept, and with it the queries first met there.
    reading.plans.keep(workspace, reading.writer)
    for group, repetition in reading.desk.gathering.repetition.finish().items():
        if reading.writer.knows(group):
            found = repetition_symptoms(repetition)
            if found:
                query = reading.writer.query(group)
                workspace.ledger.symptoms.keep_of_workload(reading.writer.id, query, found)
    return reading.writer.finish(reading.figures(), status)


def _no_log(files: Sequence[LogPlace], tally: Tally) -> UnreadableInput:
    names = ", ".join(str(file) for file in files)
    return UnreadableInput(
        f"{names}: not one of {tally.lines:,} lines is an entry of a server's log (PostgreSQL, "
        f"MariaDB, MySQL) or an application's (first: {tally.first_unreadable}).",
        "Is it the right file? If the lines of a server's log begin in an unusual way, give  "
        f"--prefix  with the server's {_prefix_setting()}.",
    )


class _Telling:
    """Progress in words: how much, how fast, how long still."""

    def __init__(
        self, reading: _Reading, log: _Log, logs: Sequence[_Log], progress: Progress
    ) -> None:
        self._reading, self._log, self._progress = reading, log, progress
        sizes = [None if each.size is None else each.size - each.start for each in logs]
        self._whole = None if None in sizes else sum(size for size in sizes if size is not None)
        self._last = 0.0

    def __call__(self, end: int) -> None:
        now = time.monotonic()
        if now - self._last < _TELL_EVERY_S:
            return
        self._last = now
        done, seconds = self._reading.done_bytes, max(now - self._reading.began, 0.001)
        rate = done / seconds
        words = f"reading {self._log.shown}: {done / 1e6:,.0f} MB, {rate / 1e6:,.0f} MB/s"
        if self._whole is not None and rate:
            left = max(self._whole - done, 0) / rate
            words += f", {100 * done / max(self._whole, 1):.0f} %, {left:,.0f} s left"
        self._progress(words)


def _prefix_setting() -> str:
    """What says how lines begin, at the server whose logs begin as it likes."""
    return next(form.prefix_setting for form in log_forms() if form.prefix_setting)


def _prefix_of_target(workspace: Workspace) -> str | None:
    """The target's own setting; a target that is away is no reason not to read a file."""
    if not workspace.has_target:
        return None
    try:
        return workspace.session.server.texts.get(_prefix_setting())
    except HumbleError:
        return None
