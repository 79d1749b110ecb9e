"""Log files: opening them, and remembering how far each was read."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

from humble_ledger.errors import UnreadableInput

HEAD_BYTES = 512


@dataclass(frozen=True, slots=True)
class Position:
    """How far a file was read: a fingerprint of its first bytes, and an offset in bytes.

    The head tells a file that grew from another one that took its name when logs rotated.
    """

    head: str
    head_bytes: int
    offset: int


def start_offset(path: Path, before: Position | None) -> int:
    """Where to go on reading: behind what was read of the same file, else at its start.

    Raises:
        UnreadableInput: the file cannot be opened.
    """
    if before is None:
        return 0
    same = head_of(path, before.head_bytes) == before.head
    return before.offset if same and path.stat().st_size >= before.offset else 0


def head_of(path: Path, length: int) -> str:
    """A fingerprint of the first bytes of a file."""
    with opened(path) as file:
        return blake2b(file.read(length), digest_size=8).hexdigest()


class opened:
    """Open a file for reading bytes, with our error when that fails."""

    def __init__(self, path: Path) -> None:
        try:
            self._file = path.open("rb")
        except OSError as error:
            raise UnreadableInput(
                f"The file {path} cannot be read: {error.strerror}.",
                "Check the path; a server's log often belongs to the server's own user.",
            ) from error

    def __enter__(self):  # type: ignore[no-untyped-def]
        return self._file

    def __exit__(self, *_: object) -> None:
        self._file.close()


class LineReader:
    """The complete lines of a file from an offset on; ``position`` is where to go on later.

    Bytes that are no UTF-8 are replaced, so that one broken name does not lose a statement.
    A last line without its end is left for the next time.
    """

    def __init__(self, path: Path, offset: int) -> None:
        self._path = path
        self._offset = offset

    def __iter__(self) -> Iterator[str]:
        with opened(self._path) as file:
            file.seek(self._offset)
            for line in file:
                if not line.endswith(b"\n"):
                    return
                self._offset += len(line)
                yield line.decode("utf-8", "replace")

    @property
    def position(self) -> Position:
        """How far the file was read by now."""
        length = min(HEAD_BYTES, self._offset)
        return Position(head_of(self._path, length), length, self._offset)
