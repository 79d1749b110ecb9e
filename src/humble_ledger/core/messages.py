"""What is told to people, before it has words: which message, and its arguments.

The sentences themselves are made in `views.wording`, where numbers get the reader's style; what a
ledger keeps of a finding can so be said again in other words. An engine whose messages nobody else
has brings the text along (`phrase`).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

PHRASE = "phrase"  # the message that brings its text along
AS_TOLD = "as-told"  # the message that is words already, from when they were kept as such
TEXT = "text"


@dataclass(frozen=True, slots=True)
class Message:
    """A message by its key, and what stands in it: names, figures, flags, further messages."""

    key: str
    arguments: Mapping[
        str,
        str | int | float | bool | Message | tuple[str | int | float | bool | Message, ...] | None,
    ] = field(default_factory=dict)

    def __hash__(self) -> int:
        """By the key alone: equal messages have the same one, and arguments are a mapping."""
        return hash(self.key)


Told = Message | str  # a message, or what needs no other words


def message(key: str, **arguments: object) -> Message:
    """A message that `views.wording` has words for."""
    found: dict[str, Any] = {name: _plain(value) for name, value in arguments.items()}
    return Message(key, found)


def phrase(text: str, **arguments: object) -> Message:
    """A message with its own text, in which an argument stands as "{name}".

    A figure is written as the reader wants it: "{rows:whole}", "{took:ms}", "{part:share}",
    "{room:size}", "{digits:figure}".
    """
    found: dict[str, Any] = {name: _plain(value) for name, value in arguments.items()}
    return Message(PHRASE, {TEXT: text, **found})


def moment(at: datetime | None) -> str | None:
    """A moment as it is told, to the minute; None for none."""
    return None if at is None else f"{at:%Y-%m-%d %H:%M}"


def _plain(value: object) -> object:
    """A value as it can be kept: names of tables and of kinds become text."""
    if value is None or type(value) in (str, int, float, bool, Message):
        return value
    if isinstance(value, tuple | list):
        return tuple(_plain(each) for each in value)
    return str(value)
