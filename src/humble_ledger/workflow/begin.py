"""Beginning: `humble.toml` and the ledger of a folder, and a first look at the target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory

from humble_ledger.core.entries import TargetEntry
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.registry import engine_for
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.store.place import Place, ServerPlace, place_of, same_place
from humble_ledger.workflow.capturing.scripts import capture_script
from humble_ledger.workflow.configuration import (
    FILE_NAME,
    Configuration,
    TargetConfig,
    TargetRole,
    find_configuration,
    write_configuration,
)
from humble_ledger.workflow.workspace import Workspace


@dataclass(frozen=True, slots=True)
class Begun:
    """What `begin` made and found."""

    configuration: Path
    ledger: Place
    new_ledger: bool
    target: TargetEntry
    database: str
    user: str
    not_kept: tuple[str, ...]  # parameters of the address, without their values
    mask: bool
    ledger_password: bool  # the ledger's address had one, which is not stored


def begin(
    folder: Path,
    url: str,
    name: str,
    role: TargetRole,
    mask: bool = False,
    place: str = "",
) -> Begun:
    """Check a target, then write `humble.toml` and the ledger; a second call adds a target.

    With ``mask`` no literal goes into the ledger from now on; once said, it stays so until
    `humble.toml` is changed by hand. ``place`` is where the ledger shall be kept, a file or a
    server that a team shares. Nothing is written when the target cannot be reached. Passwords of
    URLs are used for the check and kept nowhere.

    Raises:
        TargetUnreachable: the server does not answer or does not let us in.
        LedgerUnreachable: no ledger can be kept at the place.
        WrongUsage: the folder has a ledger elsewhere already.
    """
    engine = engine_for(url)
    session = engine.connect(url, Limits()).session()
    server = session.server
    session.close()
    public = engine.public_url(url)
    found = find_configuration(folder)
    if found.folder != folder:
        at = found.ledger
        at = folder / at.name if isinstance(at, Path) else at
        found = replace(found, folder=folder, ledger=at, targets={})
    if place:
        found = replace(found, ledger=_wanted_place(found.ledger, place_of(place, folder)))
    targets = {**found.targets, name: TargetConfig(name, public, role)}
    target = TargetEntry(name, public, server.engine, server.version, role.value)
    with Ledger(found.ledger, create=True) as ledger:
        new_ledger = not ledger.targets.all()
        ledger.targets.keep(target)
    mask = mask or found.mask
    found = replace(found, targets=targets, mask=mask)
    write_configuration(found)
    _capture_recorded(found, name, getattr(engine, "statements", ()))
    return Begun(
        folder / FILE_NAME,
        found.ledger,
        new_ledger,
        target,
        server.database,
        server.user,
        engine.not_kept(url),
        mask,
        isinstance(found.ledger, ServerPlace) and found.ledger.has_password,
    )


def _wanted_place(now: Place, wanted: Place) -> Place:
    """The place that was asked for, unless the folder's entries are elsewhere."""
    if isinstance(now, Path) and now.exists() and not same_place(now, wanted):
        raise WrongUsage(
            f"This folder has a ledger already: {now.name}.",
            f"Take it along:  humble ledger backup {wanted} , then write that into {FILE_NAME}",
        )
    return wanted


def _capture_recorded(configuration: Configuration, target: str, statements: Sequence[str]) -> None:
    """A recording brings the statements along that it has answers about."""
    if not statements:
        return
    with TemporaryDirectory() as place, Workspace(configuration, target) as workspace:
        script = Path(place) / "recording.sql"
        script.write_text(";\n".join(statements) + ";\n", encoding="utf-8")
        capture_script(workspace, script)
