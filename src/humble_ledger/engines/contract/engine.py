"""One kind of server: its addresses, its SQL, and how its plans and logs are written."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.engines.contract.limits import Limits
from humble_ledger.engines.contract.logs import LogFormat
from humble_ledger.engines.contract.plans import PlanFormat
from humble_ledger.engines.contract.server import Server


class Engine(Protocol):
    """One kind of server."""

    name: str
    plans: PlanFormat
    dialect: Dialect
    logs: Sequence[LogFormat]

    def public_url(self, url: str) -> str:
        """The URL without its password: the only form that is stored or shown."""
        ...

    def not_kept(self, url: str) -> tuple[str, ...]:
        """The parameters of a URL that its public form leaves out, without their values."""
        ...

    def connect(self, url: str, limits: Limits = ..., mark: str = "") -> Server:
        """The server at an address; nothing is opened yet.

        Its sessions carry the ``mark``, by which they and what they make are found again.
        """
        ...

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """The copies without rows that lie on this machine."""
        ...

    def build_hollow(
        self,
        name: str,
        files: Sequence[Path],
        settings: Sequence[tuple[str, str]],
        progress: Callable[[str], None] = ...,
    ) -> KeptHollow:
        """Make a copy from files in place of a server; ``hollow:NAME`` is its address.

        ``settings`` are those of the planner that differ from a new server's.

        Raises:
            UnreadableInput: the files hold no schema that can be read.
            TargetUnreachable: no server can be started here.
        """
        ...

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """Remove those made from files of these names, or all there are.

        Those are returned that could not be removed, as a command is using them.

        Raises:
            WrongUsage: there is none of a name.
        """
        ...
