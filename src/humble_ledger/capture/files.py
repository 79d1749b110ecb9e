"""Log files, plain or compressed: reading them, and remembering how far each was read."""

from __future__ import annotations

import codecs
import gzip
import io
import lzma
import stat
import sys
import tempfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from hashlib import blake2b
from pathlib import Path
from typing import IO, Any, cast

from humble_ledger.capture.places import LogPlace
from humble_ledger.errors import UnreadableInput

# What a packed file may raise when it is read.
_DAMAGES = (EOFError, OSError, lzma.LZMAError, zlib.error)
HEAD_BYTES = 512
STANDARD_INPUT = Path("-")
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


class Packing(StrEnum):
    """How a log is packed, told by its first bytes: a name may say anything."""

    NONE = "none"
    GZIP = "gzip"
    XZ = "xz"
    ZSTD = "zstd"


_MAGIC = {
    b"\x1f\x8b": Packing.GZIP,
    b"\xfd7zXZ\x00": Packing.XZ,
    b"\x28\xb5\x2f\xfd": Packing.ZSTD,
}
_UTF8_MARK = b"\xef\xbb\xbf"
# What Windows writes when output is sent into a file; its lines are not those of UTF-8.
_UTF16_MARKS = {b"\xff\xfe": "utf-16-le", b"\xfe\xff": "utf-16-be"}


def packing_of(path: LogPlace) -> Packing:
    """How a file is packed.

    Raises:
        UnreadableInput: it cannot be opened.
    """
    try:
        with path.open("rb") as file:
            start = file.read(max(map(len, _MAGIC)))
    except OSError as error:
        raise _unreadable(path, error) from error
    return next((kind for magic, kind in _MAGIC.items() if start.startswith(magic)), Packing.NONE)


def _unreadable(path: LogPlace, error: OSError) -> UnreadableInput:
    gone = "No such file" if isinstance(error, FileNotFoundError) else type(error).__name__
    return UnreadableInput(
        f"The file {path} cannot be read: {error.strerror or gone}.",
        "Check the path; a server's log often belongs to the server's own user.",
    )


def open_log(path: LogPlace) -> IO[bytes]:
    """Open a log for reading its uncompressed bytes.

    Raises:
        UnreadableInput: it cannot be opened.
    """
    packing = packing_of(path)
    try:
        if packing is Packing.GZIP:
            return cast(IO[bytes], gzip.open(_opened(path), "rb"))
        if packing is Packing.XZ:
            return cast(IO[bytes], lzma.open(_opened(path), "rb"))
        if packing is Packing.ZSTD:
            return io.BufferedReader(_Zstd(_opened(path)))
        return path.open("rb")
    except OSError as error:
        raise _unreadable(path, error) from error


def _opened(path: LogPlace) -> Any:
    """What unpackers take: a path, which they close themselves, or a file that was opened."""
    return path if isinstance(path, Path) else path.open("rb")


class _Zstd(io.RawIOBase):
    """A file packed by zstd, whose damages are told as those of any other file."""

    def __init__(self, path: Any) -> None:
        import zstandard  # noqa: PLC0415 - only for those who have such files

        super().__init__()
        self._source = zstandard.open(path, "rb")
        self._damage = zstandard.ZstdError

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Read some bytes into a buffer; how many."""
        try:
            data = self._source.read(len(buffer))
        except self._damage as error:
            raise OSError(str(error)) from error
        buffer[: len(data)] = data
        return len(data)

    def close(self) -> None:
        """Close the file behind it."""
        self._source.close()
        super().close()


def skip(file: IO[bytes], count: int) -> None:
    """Go ``count`` bytes on: at once in a plain file, by reading through a packed one."""
    if isinstance(file, io.BufferedReader) and file.raw.seekable():
        file.seek(count)
        return
    if hasattr(file, "fs") and file.seekable():  # a remote file that is not packed
        file.seek(count)
        return
    while count > 0 and (block := file.read(min(count, BLOCK_BYTES))):
        count -= len(block)


def must_be_spooled(path: LogPlace) -> bool:
    """Whether a log can be read only once, or not by its bytes: standard input, a pipe, UTF-16.

    Raises:
        UnreadableInput: it cannot be opened.
    """
    if path == STANDARD_INPUT:
        return True
    try:
        if not stat.S_ISREG(path.stat().st_mode):
            return not path.is_dir()
        with path.open("rb") as file:
            return file.read(2) in _UTF16_MARKS
    except OSError as error:
        raise _unreadable(path, error) from error


def spooled(path: LogPlace) -> Path:
    """A log as a file of UTF-8 that can be looked at twice; the caller removes it.

    Raises:
        UnreadableInput: it cannot be opened.
    """
    try:
        with (
            tempfile.NamedTemporaryFile(prefix="humble-log-", delete=False) as copy,
            sys.stdin.buffer if path == STANDARD_INPUT else path.open("rb") as source,
        ):
            start = source.read(BLOCK_BYTES)
            code = _UTF16_MARKS.get(start[:2])
            decoder = codecs.getincrementaldecoder(code)("replace") if code else None
            block = start[2:] if code else start
            while block:
                copy.write(decoder.decode(block).encode() if decoder is not None else block)
                block = source.read(BLOCK_BYTES)
    except OSError as error:
        raise _unreadable(path, error) from error
    return Path(copy.name)


def head_of(path: LogPlace, length: int) -> str:
    """A fingerprint of the first ``length`` bytes of a log.

    Raises:
        UnreadableInput: it cannot be opened, or what it is packed by is damaged from the start.
    """
    try:
        with open_log(path) as file:
            return blake2b(file.read(length), digest_size=8).hexdigest()
    except _DAMAGES as error:
        raise UnreadableInput(
            f"The file {path} is damaged: {error or type(error).__name__}.",
            "Copy it anew; a log that only breaks off is read up to there.",
        ) from error


def position_of(path: LogPlace, known: Iterable[Position]) -> Position | None:
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


# A whole entry on each line.
LINES = Cutter(
    lambda data: data.rfind(b"\n") + 1 or None, lambda data: data.find(b"\n") + 1 or None
)


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

    def __init__(self, path: LogPlace, offset: int = 0, name: str = "") -> None:
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
                return file.read(count).removeprefix(_UTF8_MARK)
        except _DAMAGES:
            return b""

    def blocks(self, cutter: Cutter) -> Iterator[Block]:
        """Whole entries, about `BLOCK_BYTES` at a time, whatever the log's size."""
        with open_log(self._path) as file:
            try:
                skip(file, self._offset)
            except _DAMAGES as error:
                self.damage = str(error) or type(error).__name__
                return
            yield from self._cut(file, cutter, self._offset)

    def position_at(self, offset: int) -> Position:
        """The position that says: read up to here."""
        length = min(HEAD_BYTES, offset)
        if self._head_known[0] != length:
            self._head_known = (length, head_of(self._path, length))
        return Position(self._head_known[1], length, offset)

    def _cut(self, file: IO[bytes], cutter: Cutter, place: int) -> Iterator[Block]:
        held, skipping, too_long = b"", False, 0
        begun = place
        while True:
            more, ended = self._next(file)
            held += more
            if place == begun == 0 and held.startswith(_UTF8_MARK):
                place, held = len(_UTF8_MARK), held[len(_UTF8_MARK) :]
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
        except _DAMAGES as error:
            self.damage = str(error) or type(error).__name__
            return b"".join(parts), True
        return b"".join(parts), not size


def _some(file: IO[bytes]) -> bytes:
    """Some more bytes, b"" at the end."""
    if isinstance(file, io.BufferedReader) or hasattr(file, "read1"):
        return cast(io.BufferedReader, file).read1(BLOCK_BYTES)
    return file.read(BLOCK_BYTES)
