"""Log files, plain or compressed: reading them, and remembering how far each was read."""

from __future__ import annotations

import gzip
import io
import lzma
import sys
import tempfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path
from typing import IO, cast

from humble_ledger.errors import UnreadableInput

HEAD_BYTES = 512
STANDARD_INPUT = Path("-")
BLOCK_BYTES = 1024 * 1024


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


class LineReader:
    """The whole lines of a log from an offset on; ``position`` is where to go on later.

    Bytes that are no UTF-8 are replaced, so that one broken name does not lose a statement.
    A last line without its end is left for the next time.
    """

    def __init__(self, path: Path, offset: int = 0, name: str = "") -> None:
        self._path = path
        self._offset = offset
        self.name = name or path.name
        self.damage = ""

    def __iter__(self) -> Iterator[str]:
        return self.records()

    def records(self, quote: bytes = b"") -> Iterator[str]:
        """Records: lines, joined while a ``quote`` is open; one left open at the end waits.

        A compressed file that breaks off gives what stands before; `damage` then says why.
        """
        try:
            yield from self._records(quote)
        except (EOFError, OSError, lzma.LZMAError) as error:
            self.damage = str(error) or type(error).__name__

    def first_line(self) -> str:
        """The first line from the offset on, "" when there is none."""
        with open_log(self._path) as file:
            skip(file, self._offset)
            return file.readline(BLOCK_BYTES).decode("utf-8", "replace")

    @property
    def position(self) -> Position:
        """How far the log was read by now."""
        length = min(HEAD_BYTES, self._offset)
        return Position(head_of(self._path, length), length, self._offset)

    def _records(self, quote: bytes) -> Iterator[str]:
        with open_log(self._path) as file:
            skip(file, self._offset)
            held: list[bytes] = []
            quotes = 0
            for line in file:
                if not line.endswith(b"\n"):
                    return
                held.append(line)
                quotes += line.count(quote) if quote else 0
                if quotes % 2 == 0:
                    record = b"".join(held) if len(held) > 1 else line
                    self._offset += len(record)
                    yield record.decode("utf-8", "replace")
                    held.clear()
