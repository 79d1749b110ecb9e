"""Targets: what they are, what they let us see, what was left on them."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from humble_ledger.core.schema.readiness import Readiness


class EngineInfo(Struct, frozen=True):
    """Which server."""

    name: str
    version: str


class TargetDocument(Struct, frozen=True):
    """A target as `init` found it."""

    name: str
    url: str
    engine: EngineInfo
    role: str
    database: str
    user: str
    configuration: str
    ledger: str
    kind: Literal["target"] = "target"
    version: Literal[1] = 1


class TidiedRow(Struct, frozen=True):
    """A trial that was never closed."""

    trial: str
    found: list[str]
    removed: bool
    still_runs: bool | None


class TidyDocument(Struct, frozen=True):
    """What was tidied."""

    trials: list[TidiedRow]
    kind: Literal["tidy"] = "tidy"
    version: Literal[1] = 1


class SourceRow(Struct, frozen=True):
    """One source of evidence."""

    source: str
    state: str
    tells: str
    hides: list[str]
    switch_on: list[str]
    restart: bool
    rights: list[str]


class PreflightDocument(Struct, frozen=True):
    """What a server lets us see."""

    sources: list[SourceRow]
    kind: Literal["preflight"] = "preflight"
    version: Literal[1] = 1


def preflight_document(found: Iterable[Readiness]) -> PreflightDocument:
    """What a server lets us see."""
    return PreflightDocument(
        [
            SourceRow(
                each.source,
                each.state.value,
                each.tells,
                list(each.hides),
                list(each.switch_on),
                each.restart,
                list(each.rights),
            )
            for each in found
        ]
    )
