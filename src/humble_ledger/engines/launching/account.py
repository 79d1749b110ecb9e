"""Who runs a server of ours: servers refuse to run as root, so root hands them to another user."""

from __future__ import annotations

import os
import pwd
from dataclasses import dataclass
from pathlib import Path

from humble_ledger.errors import WrongUsage

# Users that own nothing of value; the first that exists is taken.
CANDIDATES = ("nobody", "daemon")


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


def choose_account(first: str, server: str) -> Account:
    """Ourselves, or an unprivileged user when we are root.

    ``first`` is the name of the user that distributions make for this ``server``.

    Raises:
        WrongUsage: we are root and this machine has none of the users in `CANDIDATES`.
    """
    if os.geteuid() != 0:
        return Account(os.geteuid(), os.getegid(), switch=False)
    for name in (first, *CANDIDATES):
        try:
            entry = pwd.getpwnam(name)
        except KeyError:
            continue
        if entry.pw_uid != 0:
            return Account(entry.pw_uid, entry.pw_gid, switch=True)
    raise WrongUsage(
        f"{server} does not run as root, and this machine has no user "
        f"{' or '.join((first, *CANDIDATES))} to run it.",
        "Run this as an ordinary user.",
    )
