"""Where a command works: configuration, ledger and target, each opened when first needed."""

from __future__ import annotations

import os
from contextlib import ExitStack
from pathlib import Path

from humble_ledger.core.statements.masking import masked_error
from humble_ledger.engines.contract import (
    Capability,
    Engine,
    Hollow,
    Limits,
    Server,
    Session,
)
from humble_ledger.engines.registry import engine_for, is_address
from humble_ledger.errors import TargetUnreachable, WrongUsage
from humble_ledger.ledger.repository import Ledger
from humble_ledger.workflow.configuration import (
    Configuration,
    TargetConfig,
    TargetRole,
    find_configuration,
)
from humble_ledger.workflow.progress import Progress

TARGET_VARIABLE = "HUMBLE_TARGET"


def _shown(wanted: str) -> str:
    """A word that was meant to be a target; what may hold a password is not repeated."""
    return "What was given" if set(":@/%") & set(wanted) else f'"{wanted}"'


class Workspace:
    """The folder's configuration with its ledger and one target.

    ``target`` is a name of `humble.toml` or a URL; else the variable HUMBLE_TARGET, else the
    first target of the configuration.
    """

    def __init__(
        self, configuration: Configuration, target: str | None = None, limits: Limits | None = None
    ) -> None:
        self.configuration = configuration
        self.limits = limits or Limits()
        self._wanted = target
        self._ledger: Ledger | None = None
        self._engine: Engine | None = None
        self._session: Session | None = None
        self._hollow: Hollow | None = None
        self._open = ExitStack()

    @classmethod
    def find(
        cls,
        start: Path | None = None,
        target: str | None = None,
        limits: Limits | None = None,
    ) -> Workspace:
        """The workspace of a folder, or of the nearest one upwards that has `humble.toml`."""
        return cls(find_configuration(start or Path.cwd()), target, limits)

    def __enter__(self) -> Workspace:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Close whatever was opened."""
        self._hollow = None
        self._open.close()
        if self._session is not None:
            self._session.close()
            self._session = None
        if self._ledger is not None:
            self._ledger.close()
            self._ledger = None

    def reconnect(self) -> None:
        """Let the next question to the target go through a new session, and a new hollow."""
        self._hollow = None
        self._open.close()
        if self._session is not None:
            self._session.close()
            self._session = None

    @property
    def ledger(self) -> Ledger:
        """The ledger.

        Raises:
            LedgerUnreachable: there is none here.
        """
        if self._ledger is None:
            self._ledger = Ledger(self.configuration.ledger, mask=self.configuration.mask)
        return self._ledger

    @property
    def has_ledger(self) -> bool:
        """Whether there is a ledger here to keep something in."""
        place = self.configuration.ledger
        return self._ledger is not None or not isinstance(place, Path) or place.exists()

    def require_ledger(self) -> None:
        """Make sure there is a ledger before a server is asked for something to keep.

        Raises:
            LedgerUnreachable: there is none here.
        """
        assert self.ledger is not None

    @property
    def target(self) -> TargetConfig:
        """The target to talk to.

        Raises:
            WrongUsage: none is configured, or the name is unknown.
        """
        wanted = self._wanted or os.environ.get(TARGET_VARIABLE)
        known = self.configuration.targets
        if wanted is None:
            if known:
                return next(iter(known.values()))
            raise WrongUsage(
                "No target is known here.",
                "Name one with --target URL, or begin with:  humble init postgresql://… or app.db",
            )
        if wanted in known:
            return known[wanted]
        if is_address(wanted):
            return TargetConfig("", wanted, TargetRole.STAGING)
        names = ", ".join(known) or "none"
        raise WrongUsage(
            f"{_shown(wanted)} is neither a URL nor a target of humble.toml (known: {names}).",
            "Write a URL like  postgresql://user@host:5432/database, or a path like app.db",
        )

    @property
    def has_target(self) -> bool:
        """Whether there is a target to talk to."""
        return bool(self._wanted or os.environ.get(TARGET_VARIABLE) or self.configuration.targets)

    @property
    def engine(self) -> Engine:
        """The engine of the target; the same one each time, as a recording has a memory."""
        if self._engine is None:
            self._engine = engine_for(self.target.url)
        return self._engine

    def ask_through(self, engine: Engine) -> None:
        """From now on ask the target through this engine, which may note what is answered."""
        self._engine = engine

    def readable(self, text: str) -> str:
        """A text of SQL, written as the core's own lexical rules part it; see `core.dialect`."""
        try:
            return self.engine.dialect.readable(text)
        except WrongUsage:
            return text  # no target is known: whoever needs one says so

    def kept_words(self, words: str) -> str:
        """A message as it may be kept: without values, where no literal goes into the ledger."""
        return masked_error(words) if self.configuration.mask else words

    @property
    def public_url(self) -> str:
        """The target's URL without its password: the only form that is stored."""
        return self.engine.public_url(self.target.url)

    def server(
        self, mark: str = "", *, limits: Limits | None = None, url: str | None = None
    ) -> Server:
        """The target's server, or that of another ``url``; its sessions carry the ``mark``."""
        return self.engine.connect(url or self.target.url, limits or self.limits, mark)

    @property
    def session(self) -> Session:
        """A read-only session on the target, opened when first asked for.

        Raises:
            TargetUnreachable: the server does not answer or does not let us in.
        """
        if self._session is None:
            self._session = self.server().session()
        return self._session

    @property
    def keeps_hollow(self) -> bool:
        """Whether a copy of the target may stay on this machine.

        What is masked is kept nowhere, and statistics hold values; of rows that are in production,
        or that nobody said are not, no copy lies about, either.
        """
        known = bool(self.target.name) and self.target.role is not TargetRole.PRODUCTION
        return not self.configuration.mask and (known or not self.server().hollow_holds_rows)

    def hollow(self, progress: Progress) -> Hollow:
        """A copy of the target without its rows, made when first asked for.

        Raises:
            HumbleError: none can be made here, with the reason.
        """
        if self._hollow is None:
            supported = self.session.support(Capability.HOLLOW)
            if not supported:
                raise TargetUnreachable(
                    f"No copy for the planner can be made: {supported.reason}.", supported.remedy
                )
            made = self.server().hollow(progress, keep=self.keeps_hollow)
            self._hollow = self._open.enter_context(made)
        return self._hollow
