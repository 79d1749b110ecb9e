"""Where a server's programs are: given by a variable, on PATH, or in a distribution."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.errors import WrongUsage

VARIABLE = "HUMBLE_MARIADB_BIN"
MYSQL_VARIABLE = "HUMBLE_MYSQL_BIN"
_SERVERS = ("mariadbd", "mysqld")
_INSTALLERS = ("mariadb-install-db", "mysql_install_db")
_FOLDERS = ("/usr/sbin", "/usr/bin", "/usr/local/mariadb/bin", "/usr/local/mysql/bin")


@dataclass(frozen=True, slots=True)
class Programs:
    """The server, the program that makes its data folder, and the version.

    MySQL's server makes its folder itself.
    """

    server: Path
    installer: Path
    version: str


def find_mysql_programs() -> Programs:
    """MySQL's server on this machine.

    Raises:
        WrongUsage: there is none.
    """
    places = _places(MYSQL_VARIABLE)
    server = shutil.which("mysqld", path=places)
    said = _version(server) if server else ""
    found = re.search(r"Ver (\d+\.\d+\.\d+)", said)
    if server is None or found is None or "mariadb" in said.lower():
        raise WrongUsage(
            f"No MySQL server programs here: looked at {MYSQL_VARIABLE}, PATH and {_FOLDERS[0]}.",
            f"Name the folder that mysqld is in with {MYSQL_VARIABLE}.",
        )
    return Programs(Path(server), Path(server), found[1])


def _places(variable: str) -> str:
    named = os.environ.get(variable)
    folders = [named] if named else [*os.environ.get("PATH", "").split(os.pathsep), *_FOLDERS]
    return os.pathsep.join(folders)


def find_programs() -> Programs:
    """MariaDB's programs on this machine.

    Raises:
        WrongUsage: there are none.
    """
    places = _places(VARIABLE)
    server = next(filter(None, (shutil.which(name, path=places) for name in _SERVERS)), None)
    making = next(filter(None, (shutil.which(name, path=places) for name in _INSTALLERS)), None)
    said = _version(server) if server else ""
    found = re.search(r"(\d+\.\d+\.\d+)-mariadb", said, re.IGNORECASE)
    if server is None or making is None or found is None:
        raise WrongUsage(
            f"No MariaDB server programs here: looked at {VARIABLE}, PATH and {_FOLDERS[0]}.",
            "Install them, as with:  apt install mariadb-server",
        )
    return Programs(Path(server), Path(making), found[1])


def _version(server: str) -> str:
    try:
        return subprocess.run(
            [server, "--version"], capture_output=True, text=True, check=True, timeout=30
        ).stdout
    except (OSError, subprocess.SubprocessError):
        return ""
