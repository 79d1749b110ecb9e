"""`humble.toml`: targets, where the ledger lies, how numbers are written."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path
from typing import Any

import tomli_w

from humble_ledger.core.remedies.naming import DEFAULT_PATTERN, pattern_fault
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger.store.place import Place, place_of

FILE_NAME = "humble.toml"
LEDGER_NAME = "humble.ledger"
LEDGER_VARIABLE = "HUMBLE_LEDGER"


class TargetRole(StrEnum):
    """How careful we are with a target."""

    SCRATCH = "scratch"
    STAGING = "staging"
    PRODUCTION = "production"


@dataclass(frozen=True, slots=True)
class TargetConfig:
    """One target of `humble.toml`; its URL has no password."""

    name: str
    url: str
    role: TargetRole = TargetRole.STAGING


@dataclass(frozen=True, slots=True)
class Configuration:
    """What `humble.toml` says; the first target is the default one.

    The ``ledger`` is a file, or a schema on a server that a team shares.
    With ``mask`` no literal goes into the ledger; ``plan_columns`` are those of a plan's table;
    ``index_names`` is the pattern for the names of proposed indexes.
    """

    folder: Path
    ledger: Place
    targets: Mapping[str, TargetConfig] = field(default_factory=dict)
    number_style: str = "1,234.5"
    migrations: Path = Path("migrations")
    mask: bool = False
    plan_columns: tuple[str, ...] = ()
    index_names: str = DEFAULT_PATTERN


def find_configuration(start: Path) -> Configuration:
    """The configuration of the nearest folder upwards that has one; defaults when none has.

    The variable HUMBLE_LEDGER names another ledger than the file does, and may hold a password.

    Raises:
        WrongUsage: the file is there but cannot be read.
    """
    for folder in (start, *start.parents):
        if (folder / FILE_NAME).is_file():
            found = _read(folder)
            break
    else:
        found = Configuration(start, start / LEDGER_NAME)
    named = os.environ.get(LEDGER_VARIABLE)
    return replace(found, ledger=place_of(named, start)) if named else found


def shown_place(place: Place, folder: Path) -> str:
    """A ledger's place as it is written and shown: a file from a folder, never a password."""
    return os.path.relpath(place, folder) if isinstance(place, Path) else str(place)


def write_configuration(configuration: Configuration) -> Path:
    """Write `humble.toml` into the configuration's folder; returns its path."""
    path = configuration.folder / FILE_NAME
    document: dict[str, Any] = {
        "ledger": shown_place(configuration.ledger, configuration.folder),
        "migrations": str(configuration.migrations),
        "number_style": configuration.number_style,
        "mask": configuration.mask,
        "plan_columns": list(configuration.plan_columns),
        "index_names": configuration.index_names,
        "targets": {
            name: {"url": target.url, "role": target.role.value}
            for name, target in configuration.targets.items()
        },
    }
    path.write_text(tomli_w.dumps(document), encoding="utf-8")
    return path


def remember_columns(configuration: Configuration, columns: tuple[str, ...]) -> None:
    """Keep the columns of a plan's table in `humble.toml`, where there is one."""
    if (configuration.folder / FILE_NAME).is_file() and columns != configuration.plan_columns:
        write_configuration(replace(configuration, plan_columns=columns))


def _read(folder: Path) -> Configuration:
    path = folder / FILE_NAME
    try:
        document = tomllib.loads(path.read_text(encoding="utf-8"))
        targets = {
            name: TargetConfig(name, str(each["url"]), TargetRole(each.get("role", "staging")))
            for name, each in document.get("targets", {}).items()
        }
        names = str(document.get("index_names", DEFAULT_PATTERN))
        if fault := pattern_fault(names):
            raise ValueError(f'index_names = "{names}": {fault}')
        ledger = place_of(str(document.get("ledger", LEDGER_NAME)), folder)
    except (OSError, ValueError, KeyError, AttributeError, TypeError) as error:
        raise WrongUsage(
            f"{path} cannot be read: {error}.", "Correct it, or write a new one with  humble init"
        ) from error
    return Configuration(
        folder=folder,
        ledger=ledger,
        targets=targets,
        number_style=str(document.get("number_style", "1,234.5")),
        migrations=Path(str(document.get("migrations", "migrations"))),
        mask=bool(document.get("mask", False)),
        plan_columns=tuple(_column(str(name)) for name in document.get("plan_columns", ())),
        index_names=names,
    )


def _column(name: str) -> str:
    """A column of a plan's table; what it was called before is still understood."""
    return f"self_{name.removeprefix('own_')}" if name.startswith("own_") else name
