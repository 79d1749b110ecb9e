"""Beginning: `humble.toml` and the ledger of a folder, and a first look at the target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory

from humble_ledger.core.entries import TargetEntry
from humble_ledger.engines.contract import Limits
from humble_ledger.engines.registry import engine_for
from humble_ledger.ledger.repository import Ledger
from humble_ledger.workflow.capturing.scripts import capture_script
from humble_ledger.workflow.configuration import (
    FILE_NAME,
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
    ledger: Path
    new_ledger: bool
    target: TargetEntry
    database: str
    user: str
    not_kept: tuple[str, ...]  # parameters of the address, without their values
    mask: bool


def begin(folder: Path, url: str, name: str, role: TargetRole, mask: bool = False) -> Begun:
    """Check a target, then write `humble.toml` and the ledger; a second call adds a target.

    With ``mask`` no literal goes into the ledger from now on; once said, it stays so until
    `humble.toml` is changed by hand. Nothing is written when the target cannot be reached. The
    password of the URL is used for the check and kept nowhere.

    Raises:
        TargetUnreachable: the server does not answer or does not let us in.
    """
    engine = engine_for(url)
    session = engine.open(url, Limits())
    server = session.server
    session.close()
    public = engine.public_url(url)
    found = find_configuration(folder)
    if found.folder != folder:
        found = replace(found, folder=folder, ledger=folder / found.ledger.name, targets={})
    targets = {**found.targets, name: TargetConfig(name, public, role)}
    new_ledger = not found.ledger.exists()
    target = TargetEntry(name, public, server.engine, server.version, role.value)
    with Ledger(found.ledger, create=True) as ledger:
        ledger.targets.keep(target)
    mask = mask or found.mask
    write_configuration(replace(found, targets=targets, mask=mask))
    _capture_recorded(folder, name, getattr(engine, "statements", ()))
    return Begun(
        folder / FILE_NAME,
        found.ledger,
        new_ledger,
        target,
        server.database,
        server.user,
        engine.not_kept(url),
        mask,
    )


def _capture_recorded(folder: Path, target: str, statements: Sequence[str]) -> None:
    """A recording brings the statements along that it has answers about."""
    if not statements:
        return
    with TemporaryDirectory() as place, Workspace.find(folder, target) as workspace:
        script = Path(place) / "recording.sql"
        script.write_text(";\n".join(statements) + ";\n", encoding="utf-8")
        capture_script(workspace, script)
