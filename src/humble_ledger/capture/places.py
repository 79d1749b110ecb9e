"""Where logs lie: files of this machine, and files that a URL names (object storage, …)."""

from __future__ import annotations

import stat
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


LogPlace = Path | RemoteFile


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
