"""Reading a log file, in any form that an engine knows, block by block.

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
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from multiprocessing import get_context
from typing import Protocol

from humble_ledger.capture.columns import packed, parted, unpacked
from humble_ledger.capture.files import Block, LogReader
from humble_ledger.capture.log_rows import BlockRows
from humble_ledger.core.statements.fingerprint import normalise
from humble_ledger.engines.contract.logs import LogFormat

# Below this, starting processes takes longer than it saves.
WORTH_PROCESSES_BYTES = 16 * 1024 * 1024
# As columns they are counted quicker, once NumPy is loaded.
WORTH_COLUMNS_BYTES = 1024 * 1024
PROCESSES = 2
_AHEAD = 4
_PARENT_CHECK_S = 1.0


@dataclass(frozen=True, slots=True)
class ReadBlock:
    """A block's rows, and the place (bytes) behind it; ``too_long`` entries were skipped."""

    rows: BlockRows
    end: int
    too_long: int


def form_of(forms: Sequence[LogFormat], start: bytes, prefix: str | None) -> LogFormat:
    """The form of a log that begins so: the first that recognises it, else the fallback."""
    for form in forms:
        if form.recognises(start, prefix):
            return form
    return next(form for form in forms if form.fallback)


def read_log(
    reader: LogReader,
    forms: Sequence[LogFormat],
    prefix: str | None,
    size: int = 0,
    *,
    alone: bool = False,
) -> Iterator[ReadBlock]:
    """The blocks of a log, each as rows; what cannot be read is counted and skipped.

    ``prefix`` is what the user or the server says that lines begin with, None to recognise the
    common ones; ``size`` in bytes, as far as known, decides about the processes. With ``alone``
    there are none, however large it is.
    """
    start = reader.first_bytes()
    form = form_of(forms, start, prefix)
    fitting, not_fitting = form.fitting(start, prefix)
    parse = partial(_rows, form, fitting)
    blocks = reader.blocks(form.cutter)
    first = True
    for found in (
        _in_processes(blocks, parse)
        if size >= WORTH_PROCESSES_BYTES and not alone
        else _here(blocks, parse, columns=alone and size >= WORTH_COLUMNS_BYTES)
    ):
        if first and not_fitting:
            found.rows.pass_over(not_fitting)
        first = False
        yield found


def _rows(form: LogFormat, prefix: str | None, data: bytes, *, columns: bool = False) -> BlockRows:
    return form.rows(data, prefix, columns=columns)


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


def _here(blocks: Iterator[Block], parse: _Parse, *, columns: bool) -> Iterator[ReadBlock]:
    for block in blocks:
        rows = parse(block.data, columns=columns)
        if columns and rows.columns is None and not rows.told:
            rows.columns, rows.rows = parted(rows.rows)
        yield ReadBlock(rows, block.end, block.too_long)


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
