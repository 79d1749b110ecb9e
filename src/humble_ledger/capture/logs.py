"""Reading a log file of PostgreSQL, in any of its formats, block by block.

Small files are read in this process. Large ones are parted into blocks that other processes
turn into rows, while this one puts them together in order.
"""

from __future__ import annotations

import gc
import marshal
import os
import signal
import threading
import time
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache, partial
from multiprocessing import get_context
from typing import Protocol

from humble_ledger.capture import plain_log, structured_logs
from humble_ledger.capture.columns import packed, unpacked
from humble_ledger.capture.files import Block, Cutter, LogReader
from humble_ledger.capture.line_shapes import Shapes
from humble_ledger.capture.log_prefix import entry_pattern
from humble_ledger.capture.log_rows import BlockRows
from humble_ledger.core.statements.fingerprint import normalise

_CSV_COMMAS = 20  # every csvlog line has at least so many; a plain one rarely
# Below this, starting processes takes longer than it saves.
WORTH_PROCESSES_BYTES = 16 * 1024 * 1024
PROCESSES = 2
_AHEAD = 4
_PARENT_CHECK_S = 1.0
PREFIX_NOT_FITTING = "log_line_prefix that does not fit (recognised instead)"
_LINES_LOOKED_AT = 200


class LogFormat(StrEnum):
    """How a log is written."""

    PLAIN = "plain"
    CSV = "csv"
    JSON = "json"


@dataclass(frozen=True, slots=True)
class ReadBlock:
    """A block's rows, and the place (bytes) behind it; ``too_long`` entries were skipped."""

    rows: BlockRows
    end: int
    too_long: int


CUTTERS = {
    LogFormat.PLAIN: Cutter(plain_log.last_cut, plain_log.first_start),
    LogFormat.CSV: Cutter(structured_logs.last_csv_cut, structured_logs.first_csv_start),
    LogFormat.JSON: Cutter(structured_logs.last_line_end, structured_logs.first_line_start),
}


def recognise(start: bytes, prefix: str | None) -> LogFormat:
    """The format, by the first bytes of a file."""
    line = start.partition(b"\n")[0]
    if line.startswith(b"{"):
        return LogFormat.JSON
    text = line.decode("utf-8", "replace")
    if entry_pattern(prefix).match(text) or entry_pattern(None).match(text):
        return LogFormat.PLAIN
    return LogFormat.CSV if line.count(b",") >= _CSV_COMMAS else LogFormat.PLAIN


def fitting_prefix(start: bytes, prefix: str | None) -> str | None:
    """The prefix given, or None (recognise) when it does not fit what stands in the log.

    A server's prefix may have been changed since; a user's may be mistyped.
    """
    if prefix is None:
        return None
    text = b"\n".join(start.split(b"\n")[:_LINES_LOOKED_AT]).decode("utf-8", "replace")
    fits = sum(1 for _ in entry_pattern(prefix).finditer(text))
    known = sum(1 for _ in entry_pattern(None).finditer(text))
    return prefix if fits * 2 >= known else None


def read_log(reader: LogReader, prefix: str | None, size: int = 0) -> Iterator[ReadBlock]:
    """The blocks of a log, each as rows; what cannot be read is counted and skipped.

    ``prefix`` is the server's log_line_prefix (plain logs only), None to recognise the
    common forms; ``size`` in bytes, as far as known, decides about the processes.
    """
    start = reader.first_bytes()
    kind = recognise(start, prefix)
    fitting = fitting_prefix(start, prefix) if kind is LogFormat.PLAIN else None
    parse = partial(rows_of, kind, fitting)
    blocks = reader.blocks(CUTTERS[kind])
    first = True
    for found in (
        _in_processes(blocks, parse) if size >= WORTH_PROCESSES_BYTES else _here(blocks, parse)
    ):
        if first and kind is LogFormat.PLAIN and fitting != prefix:
            found.rows.pass_over(PREFIX_NOT_FITTING)
        first = False
        yield found


def rows_of(
    kind: LogFormat, prefix: str | None, data: bytes, *, columns: bool = False
) -> BlockRows:
    """The rows of a block of a log; with ``columns`` its runs as such, where that is quicker."""
    if kind is LogFormat.CSV:
        return structured_logs.csv_rows(data)
    shapes = _shapes(kind, prefix)
    if kind is LogFormat.JSON:
        return structured_logs.json_rows(data, shapes, columns=columns)
    return plain_log.plain_rows(data, prefix, shapes, columns=columns)


@lru_cache(maxsize=4)
def _shapes(kind: LogFormat, prefix: str | None) -> Shapes:
    """The shapes of lines that this process has met in logs of this form."""
    return Shapes()


class _Parse(Protocol):
    """Reads a block."""

    def __call__(self, data: bytes, *, columns: bool = False) -> BlockRows: ...


def _packed(parse: _Parse, data: bytes) -> bytes:
    """The rows as bytes: between processes of one program `marshal` is twice as quick."""
    block = parse(data, columns=True)
    # Taking a statement apart is the most work of all where nearly all are different.
    block.prints = [_print(*key) for key in block.keys]
    return marshal.dumps(packed(block))  # type: ignore[arg-type]  # plain all through


_prints: dict[str, tuple[str, str]] = {}
_MOST_PRINTS = 20_000


def _print(wording: str, sql: str) -> tuple[str, str]:
    """Text and fingerprint of a statement; this process has met most wordings before."""
    found = _prints.get(wording)
    if found is None:
        normalised = normalise(sql)
        found = (normalised.text, normalised.fingerprint)
        if len(_prints) < _MOST_PRINTS:
            _prints[wording] = found
    return found


def _here(blocks: Iterator[Block], parse: _Parse) -> Iterator[ReadBlock]:
    for block in blocks:
        yield ReadBlock(parse(block.data), block.end, block.too_long)


def _in_processes(blocks: Iterator[Block], parse: _Parse) -> Iterator[ReadBlock]:
    """The same, some blocks ahead in other processes, in the order of the log."""
    pool = ProcessPoolExecutor(
        PROCESSES, mp_context=get_context("fork"), initializer=_stay_quiet, initargs=(os.getpid(),)
    )
    waiting: deque[tuple[Block, Future[bytes]]] = deque()

    def done() -> ReadBlock:
        block, future = waiting.popleft()
        rows = unpacked(marshal.loads(future.result()))
        return ReadBlock(rows, block.end, block.too_long)

    try:
        for block in blocks:
            # What waits needs only its end; its bytes are with the process.
            waiting.append(
                (Block(b"", block.end, block.too_long), pool.submit(_packed, parse, block.data))
            )
            if len(waiting) > _AHEAD:
                yield done()
        while waiting:
            yield done()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def _stay_quiet(parent: int) -> None:
    """In a helping process: Ctrl-C is the parent's to handle; end when it is gone."""
    gc.disable()  # rows make no cycles, and looking for some takes a third of the time
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(_PARENT_CHECK_S)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()
