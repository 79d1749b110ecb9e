"""Log files, plain or compressed: reading them, and remembering how far each was read."""

from __future__ import annotations

import gzip
import io
import lzma
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path
from typing import IO, cast

from humble_ledger.errors import UnreadableInput

HEAD_BYTES = 512
STANDARD_INPUT = Path("-")
PACKED = (".gz", ".xz", ".zst")
BLOCK_BYTES = 1024 * 1024
# A longer entry is skipped and counted: nobody reads it, and memory must stay flat.
LONGEST_ENTRY = 8 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Position:
    """How far a log was read: a fingerprint of its first bytes, and an offset in bytes.

    The head tells a log that grew, or was renamed or compressed when logs rotated, from
    another one that took its name. Offsets count uncompressed bytes.
    """

    head: str
    head_bytes: int
    offset: int


def open_log(path: Path) -> IO[bytes]:
    """Open a log for reading its uncompressed bytes, by the ending of its name.

    Raises:
        UnreadableInput: it cannot be opened.
    """
    try:
        if path.suffix == ".gz":
            return cast(IO[bytes], gzip.open(path, "rb"))
        if path.suffix == ".xz":
            return cast(IO[bytes], lzma.open(path, "rb"))
        if path.suffix == ".zst":
            import zstandard  # noqa: PLC0415 - only for those who have such files

            return io.BufferedReader(cast(io.RawIOBase, zstandard.open(path, "rb")))
        return path.open("rb")
    except OSError as error:
        raise UnreadableInput(
            f"The file {path} cannot be read: {error.strerror}.",
            "Check the path; a server's log often belongs to the server's own user.",
        ) from error


def skip(file: IO[bytes], count: int) -> None:
    """Go ``count`` bytes on: at once in a plain file, by reading through a packed one."""
    if isinstance(file, io.BufferedReader) and isinstance(file.raw, io.FileIO):
        file.seek(count)
        return
    while count > 0 and (block := file.read(min(count, BLOCK_BYTES))):
        count -= len(block)


def spooled_standard_input() -> Path:
    """Standard input as a file, so that it can be looked at twice; the caller removes it."""
    with tempfile.NamedTemporaryFile(prefix="humble-stdin-", delete=False) as copy:
        while block := sys.stdin.buffer.read(BLOCK_BYTES):
            copy.write(block)
    return Path(copy.name)


def head_of(path: Path, length: int) -> str:
    """A fingerprint of the first ``length`` bytes of a log."""
    with open_log(path) as file:
        return blake2b(file.read(length), digest_size=8).hexdigest()


def position_of(path: Path, known: Iterable[Position]) -> Position | None:
    """How far this log was read before, under whatever name; None when it never was.

    ``known`` are the positions of all logs read so far.
    """
    heads: dict[int, str] = {}
    for position in known:
        length = position.head_bytes
        if length and length not in heads:
            heads[length] = head_of(path, length)
        if length and heads[length] == position.head:
            return position
    return None


@dataclass(frozen=True, slots=True)
class Cutter:
    """Where bytes of a log may be parted.

    ``last`` gives the place of the last cut in some bytes, None when there is none;
    ``first`` where the first entry begins behind a line's end.
    """

    last: Callable[[bytes], int | None]
    first: Callable[[bytes], int | None]


@dataclass(frozen=True, slots=True)
class Block:
    """Some whole entries of a log; ``end`` is the place in the log (bytes) behind them.

    ``too_long`` counts entries before it that were skipped for their size.
    """

    data: bytes
    end: int
    too_long: int = 0


class LogReader:
    """The blocks of a log from an offset on.

    A last line without its end is left for the next time. A compressed file that breaks off
    gives what stands before; `damage` then says why.
    """

    def __init__(self, path: Path, offset: int = 0, name: str = "") -> None:
        self._path = path
        self._offset = offset
        self.name = name or path.name
        self.damage = ""
        self._head_known: tuple[int, str] = (0, "")

    def first_bytes(self, count: int = BLOCK_BYTES) -> bytes:
        """The first bytes from the offset on."""
        try:
            with open_log(self._path) as file:
                skip(file, self._offset)
                return file.read(count)
        except (EOFError, OSError, lzma.LZMAError):
            return b""

    def blocks(self, cutter: Cutter) -> Iterator[Block]:
        """Whole entries, about `BLOCK_BYTES` at a time, whatever the log's size."""
        with open_log(self._path) as file:
            skip(file, self._offset)
            yield from self._cut(file, cutter, self._offset)

    def position_at(self, offset: int) -> Position:
        """The position that says: read up to here."""
        length = min(HEAD_BYTES, offset)
        if self._head_known[0] != length:
            self._head_known = (length, head_of(self._path, length))
        return Position(self._head_known[1], length, offset)

    def _cut(self, file: IO[bytes], cutter: Cutter, place: int) -> Iterator[Block]:
        held, skipping, too_long = b"", False, 0
        while True:
            more, ended = self._next(file)
            held += more
            if skipping:
                start = cutter.first(held)
                if start is None and not ended:
                    place, held = place + len(held) - 1, held[-1:]  # its line's end may follow
                    continue
                start = len(held) if start is None else start
                place, held, skipping = place + start, held[start:], False
            cut = held.rfind(b"\n") + 1 if ended else cutter.last(held)
            if cut is None and len(held) > LONGEST_ENTRY:
                skipping, too_long, place, held = True, too_long + 1, place + len(held), b""
                continue
            if cut or (ended and too_long):
                place += cut or 0
                yield Block(held[: cut or 0], place, too_long)
                held, too_long = held[cut or 0 :], 0
            if ended:
                return

    def _next(self, file: IO[bytes]) -> tuple[bytes, bool]:
        """Some more bytes, and whether there are none after them."""
        parts: list[bytes] = []
        size = 0
        try:
            # In small steps: what a packed file gave before it breaks off must not be lost.
            while size < BLOCK_BYTES and (more := _some(file)):
                parts.append(more)
                size += len(more)
        except (EOFError, OSError, lzma.LZMAError) as error:
            self.damage = str(error) or type(error).__name__
            return b"".join(parts), True
        return b"".join(parts), not size


def _some(file: IO[bytes]) -> bytes:
    """Some more bytes, b"" at the end."""
    return cast(io.BufferedReader, file).read1(BLOCK_BYTES)
