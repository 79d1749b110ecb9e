"""Where logs lie: on this machine, where a URL says (object storage, …), or with a server."""

from __future__ import annotations

import io
import stat
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import IO, Any, cast
from urllib.parse import urlsplit, urlunsplit

from humble_ledger.errors import UnreadableInput, WrongUsage

_NEEDS = "Install what reads it:  pip install 'humble-ledger[cluster]'"


@dataclass(frozen=True, slots=True)
class RemoteStat:
    """What is known of a remote file: its bytes, and when it was changed (seconds since 1970)."""

    st_size: int
    st_mtime: float
    st_mode: int = stat.S_IFREG


@dataclass(frozen=True, slots=True)
class RemoteFile:
    """A file by its URL, read by the package fsspec; so much like a `Path` as logs need.

    What lets us in comes from the environment or fsspec's own configuration, or stands in the URL.
    """

    url: str

    def __str__(self) -> str:
        """The URL without a user's name and password: the form that is shown and kept."""
        parts = urlsplit(self.url)
        return urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2], query=""))

    def __repr__(self) -> str:
        return f"RemoteFile({str(self)!r})"

    @property
    def name(self) -> str:
        """The last part of its path."""
        return urlsplit(self.url).path.rpartition("/")[2] or str(self)

    def open(self, mode: str = "rb") -> IO[bytes]:
        """Open it for reading.

        Raises:
            OSError: it cannot be opened.
        """
        return cast(IO[bytes], _fsspec().open(self.url, mode).open())

    def stat(self) -> RemoteStat:
        """Its size, and when it was changed as far as its place tells.

        Raises:
            OSError: it is not there.
        """
        system, path = _fsspec().core.url_to_fs(self.url)
        found = system.info(path)
        try:
            changed = system.modified(path)
        except (NotImplementedError, KeyError, TypeError):
            changed = found.get("mtime", 0.0)
        moment = changed.timestamp() if isinstance(changed, datetime) else float(changed or 0.0)
        mode = stat.S_IFDIR if found.get("type") == "directory" else stat.S_IFREG
        return RemoteStat(int(found.get("size") or 0), moment, mode)

    def is_dir(self) -> bool:
        """Whether it is a folder."""
        return stat.S_ISDIR(self.stat().st_mode)


@dataclass(frozen=True, slots=True)
class ServedLog:
    """A log that a server hands out through its connection; so much like a `Path` as logs need.

    ``changed`` is when it was written last (seconds since 1970), ``size`` its bytes at this moment;
    what is written later is left for the next time. ``read`` gives so many bytes from an offset
    on, b"" at the end.
    """

    shown: str
    size: int
    changed: float
    read: Callable[[int, int], bytes]

    def __str__(self) -> str:
        return self.shown

    @property
    def name(self) -> str:
        """The last part of its path."""
        return self.shown.rpartition("/")[2]

    def open(self, mode: str = "rb") -> IO[bytes]:
        """Open it for reading."""
        return io.BufferedReader(_Served(self))

    def stat(self) -> RemoteStat:
        """Its size, and when it was changed."""
        return RemoteStat(self.size, self.changed)

    def is_dir(self) -> bool:
        """It never is."""
        return False


class _Served(io.RawIOBase):
    """The bytes of a log that a server hands out."""

    def __init__(self, log: ServedLog) -> None:
        super().__init__()
        self._log = log
        self._at = 0

    def readable(self) -> bool:
        """It is."""
        return True

    def seekable(self) -> bool:
        """It is."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a place; which."""
        start = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._log.size}[whence]
        self._at = max(0, start + offset)
        return self._at

    def readinto(self, buffer: Any) -> int:
        """Read some bytes into a buffer; how many."""
        wanted = max(0, min(len(buffer), self._log.size - self._at))
        data = self._log.read(self._at, wanted) if wanted else b""
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)


LogPlace = Path | RemoteFile | ServedLog


def places_of(text: str | Path) -> list[LogPlace]:
    """The logs that a word of the command line names; the ``*`` of a URL stands for many.

    Raises:
        UnreadableInput: no file is of that name.
        WrongUsage: the URL is of a kind that nobody here can read.
    """
    if isinstance(text, Path) or "://" not in text:
        return [Path(text)]
    try:
        system, pattern = _fsspec().core.url_to_fs(text)
        if not any(sign in pattern for sign in "*?["):
            return [RemoteFile(text)]
        found = sorted(system.glob(pattern))
    except (ImportError, ValueError) as error:
        raise WrongUsage(f"{RemoteFile(text)} cannot be read: {error}.", _NEEDS) from error
    except OSError as error:
        raise UnreadableInput(
            f"{RemoteFile(text)} cannot be read: {error}.",
            "Check the URL; are you let in?",
        ) from error
    if not found:
        raise UnreadableInput(f"No file is like {RemoteFile(text)}.", "Check the URL.")
    scheme, netloc = urlsplit(text).scheme, urlsplit(text).netloc
    user = netloc.rpartition("@")[0]
    made = [system.unstrip_protocol(each) for each in found]
    if user and scheme:
        made = [each.replace("://", f"://{user}@", 1) for each in made if "@" not in each]
    return [RemoteFile(each) for each in made]


def _fsspec() -> Any:
    try:
        import fsspec  # noqa: PLC0415 - only for logs that are elsewhere
    except ImportError as error:
        raise WrongUsage("Logs by URL are read by the package fsspec.", _NEEDS) from error
    return fsspec
