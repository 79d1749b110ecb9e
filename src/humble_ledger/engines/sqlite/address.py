"""Addresses of SQLite databases: ``sqlite:///path/app.db``, or the file by its bare name."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import parse_qsl, unquote

SCHEME = "sqlite"
SUFFIXES = frozenset((".db", ".db3", ".sqlite", ".sqlite3"))
HEADER = b"SQLite format 3\x00"


def is_database(words: str) -> bool:
    """Whether a bare word names a database file: one that is there, or by its suffix."""
    if not words or "\n" in words or "=" in words:
        return False
    path = Path(words)
    try:
        if path.is_file():
            with path.open("rb") as file:
                return file.read(len(HEADER)) == HEADER or path.suffix.lower() in SUFFIXES
    except OSError:
        return path.suffix.lower() in SUFFIXES
    return path.suffix.lower() in SUFFIXES


def path_of(url: str) -> Path:
    """The file of an address, absolute.

    ``sqlite:////abs/app.db`` is absolute and ``sqlite:///app.db`` relative, as applications
    write it; where there is no such file below the present folder, it is taken as absolute.
    """
    text = url
    if url.startswith(f"{SCHEME}://"):
        text = unquote(url.removeprefix(f"{SCHEME}://").partition("?")[0])
        if text.startswith("/"):
            below = Path(text[1:])
            text = str(below) if below.exists() or not Path(text).exists() else text
    return Path(text).expanduser().absolute()


def public_url(url: str) -> str:
    """The address by the file's whole path: there is no password in it."""
    return f"{SCHEME}:///{path_of(url)}"


def not_kept(url: str) -> tuple[str, ...]:
    """The names of parameters behind the path, which have no meaning here."""
    query = url.partition("?")[2] if "://" in url else ""
    return tuple(name for name, _ in parse_qsl(query, keep_blank_values=True))
