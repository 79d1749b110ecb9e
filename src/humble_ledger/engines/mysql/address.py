"""Addresses: ``mariadb://user@host:3306/database`` or ``mysql://…``, and what they leave open.

What a URL does not tell is taken from the option files that every client of these servers reads
(``~/.my.cnf`` and the system's, group ``client``), as people have their password there.
"""

from __future__ import annotations

import getpass
from configparser import Error as ConfigError
from configparser import RawConfigParser
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import SplitResult, parse_qsl, quote, unquote, urlencode, urlsplit

from humble_ledger.errors import WrongUsage

PORT = 3306
OPTION_FILES = ("/etc/my.cnf", "/etc/mysql/my.cnf", "~/.my.cnf")
_GROUPS = ("client", "client-server", "client-mariadb")
# Parameters of a URL, by what the same is called in option files.
_KNOWN = {
    "socket": "socket", "unix_socket": "socket", "host": "host", "port": "port", "user": "user",
    "password": "password", "charset": "default-character-set", "ssl_ca": "ssl-ca",
    "ssl_cert": "ssl-cert", "ssl_key": "ssl-key", "ssl": "ssl", "option_file": "option_file",
}  # fmt: skip
_SHOWN = frozenset(("socket", "charset", "ssl_ca", "ssl_cert", "ssl_key", "ssl", "option_file"))
_FALSE = frozenset(("0", "false", "no", "off"))


@dataclass(frozen=True, slots=True)
class Address:
    """Where a server is, and as whom to connect; "" where a thing is left open."""

    host: str
    port: int
    socket: str
    user: str
    password: str
    database: str
    charset: str
    ssl_ca: str = ""
    ssl_cert: str = ""
    ssl_key: str = ""
    ssl: bool = False

    @property
    def place(self) -> str:
        """Server and database in a few words."""
        where = self.socket or f"{self.host}:{self.port}"
        return f"{where}/{self.database}" if self.database else where


def address_of(url: str) -> Address:
    """The address that a URL and the option files give together.

    Raises:
        WrongUsage: the URL cannot be read.
    """
    parts, given = _taken_apart(url)
    known = _from_files(given.get("option_file", ""))
    for name, value in given.items():
        known[_KNOWN[name]] = value
    host = parts.hostname or known.get("host", "")
    try:
        port = parts.port or int(known.get("port") or PORT)
    except ValueError as error:
        raise WrongUsage("The port of this URL is no number.", _EXAMPLE) from error
    # As its own clients do: the socket for this machine, unless a port is asked for.
    by_network = bool(host) and (host != "localhost" or parts.port is not None)
    socket = "" if by_network and "socket" not in given else known.get("socket", "")
    if not socket and "socket" not in given and not by_network:
        socket = next((s for s in _USUAL_SOCKETS if Path(s).exists()), "")
    return Address(
        host or "localhost",
        port,
        socket,
        unquote(parts.username or "") or known.get("user", "") or getpass.getuser(),
        unquote(parts.password) if parts.password is not None else known.get("password", ""),
        unquote(parts.path.removeprefix("/")),
        known.get("default-character-set", "") or "utf8mb4",
        known.get("ssl-ca", ""),
        known.get("ssl-cert", ""),
        known.get("ssl-key", ""),
        known.get("ssl", "0").lower() not in _FALSE,
    )


_EXAMPLE = "Give  mariadb://user@host:3306/database  or  mysql://…"
_USUAL_SOCKETS = ("/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/tmp/mysql.sock")


def public_url(url: str) -> str:
    """The URL without a password, the parameters left out that we do not know."""
    parts, given = _taken_apart(url)
    user = f"{quote(unquote(parts.username), safe='')}@" if parts.username else ""
    host = parts.hostname or ""
    port = f":{parts.port}" if parts.port else ""
    kept = {name: value for name, value in given.items() if name in _SHOWN}
    behind = f"?{urlencode(kept, safe='/')}" if kept else ""
    return f"{parts.scheme}://{user}{host}{port}{parts.path or '/'}{behind}"


def not_kept(url: str) -> tuple[str, ...]:
    """The names of parameters that the public form leaves out."""
    query = urlsplit(url).query
    return tuple(n for n, _ in parse_qsl(query, keep_blank_values=True) if n not in _SHOWN)


def _taken_apart(url: str) -> tuple[SplitResult, dict[str, str]]:
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError as error:
        raise WrongUsage(f"This URL cannot be read: {error}.", _EXAMPLE) from error
    given = parse_qsl(parts.query, keep_blank_values=True)
    return parts, {name: value for name, value in given if name in _KNOWN}


def _from_files(only: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for name in (only,) if only else OPTION_FILES:
        path = Path(name).expanduser()
        try:
            text = path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            if only:
                raise WrongUsage(
                    f"The option file {path} cannot be read: {error}.", "Check its path."
                ) from error
            continue
        found |= _options(text)
    return found


def _options(text: str) -> dict[str, str]:
    """The options of the groups that clients read; lines that include others are passed over."""
    lines = (line for line in text.splitlines() if not line.lstrip().startswith("!"))
    parser = RawConfigParser(allow_no_value=True, strict=False, delimiters=("=",))
    try:
        parser.read_string("\n".join(line.strip() for line in lines))
    except ConfigError:
        return {}
    found: dict[str, str] = {}
    for group in _GROUPS:
        if parser.has_section(group):
            for name, value in parser.items(group):
                found[name.replace("_", "-")] = _bare(value) if value is not None else "1"
    return found


def _bare(value: str) -> str:
    """A value without quotes, or without the comment behind it."""
    end = value.find(value[0], 1) if value and value[0] in "'\"" else -1
    return value[1:end] if end > 0 else value.partition(" #")[0].strip()
