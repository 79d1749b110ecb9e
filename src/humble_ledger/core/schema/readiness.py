"""What a server lets us see: one source of evidence, whether it is on, and what it hides."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class SourceState(StrEnum):
    """Whether a source of evidence can be used."""

    ON = "on"
    PARTLY = "partly"  # it tells something, but hides more than it need
    OFF = "off"
    CLOSED = "closed"  # it is there, but not for this user


@dataclass(frozen=True, slots=True)
class Readiness:
    """One source: what it tells now, what stays hidden, and how to open it.

    ``switch_on`` are statements a person with the right may run; ``restart`` tells that they
    take effect only when the server starts again; ``rights`` are those we lack.
    """

    source: str
    state: SourceState
    tells: str
    hides: tuple[str, ...] = ()
    switch_on: tuple[str, ...] = ()
    restart: bool = False
    rights: tuple[str, ...] = ()
