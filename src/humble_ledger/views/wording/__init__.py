"""The sentences of findings: each message of the core has a function here that words it.

A message "no-index" is worded by the function ``no_index``, in the module of what it is about; its
arguments are the message's. So a sentence is changed here, and nowhere else, and every number in
it is written in the reader's style.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from types import ModuleType

from humble_ledger.core.messages import AS_TOLD, PHRASE, TEXT, Message, Told
from humble_ledger.views.numbers import Numbers
from humble_ledger.views.wording import (
    changes,
    choices,
    estimates,
    joins,
    limits,
    order,
    results,
    scans,
    schema,
    searching,
    uses,
    verdicts,
    work,
    workload,
)

_PLAIN = Numbers()
_PLACE = re.compile(r"\{(\w+)(?::(\w+))?\}")
_WAYS = frozenset(("whole", "figure", "ms", "share", "size", "digits"))
ROOMS = (
    changes, choices, estimates, joins, limits, order, results, scans, schema, searching, uses,
    verdicts, work, workload,
)  # fmt: skip


def sentences_of(rooms: tuple[ModuleType, ...]) -> Iterator[tuple[str, Callable[..., str]]]:
    """The key and the function of each sentence in some modules."""
    for room in rooms:
        for name, found in vars(room).items():
            if callable(found) and not name.startswith("_") and found.__module__ == room.__name__:
                yield name.replace("_", "-"), found


SENTENCES: Mapping[str, Callable[..., str]] = dict(sentences_of(ROOMS))


def in_words(told: Told, numbers: Numbers = _PLAIN) -> str:
    """A message in words, with numbers in this style; what is words already stays as it is."""
    if isinstance(told, str):
        return told
    arguments = {name: _worded(value, numbers) for name, value in told.arguments.items()}
    if told.key == AS_TOLD:
        return str(arguments.get(TEXT, ""))
    sentence = SENTENCES.get(told.key)
    try:
        if told.key == PHRASE:
            return _filled(str(arguments.get(TEXT, "")), arguments, numbers)
        if sentence is not None:
            return sentence(numbers, **arguments)
    except (TypeError, ValueError, OverflowError, RecursionError):
        pass  # of a newer version, or damaged on its way: what it says, unadorned
    return f"{told.key}: " + ", ".join(f"{name} {value}" for name, value in arguments.items())


def _worded(value: object, numbers: Numbers) -> object:
    if isinstance(value, Message):
        return in_words(value, numbers)
    if isinstance(value, tuple | list):
        return [_worded(each, numbers) for each in value]
    return value


def _filled(text: str, arguments: Mapping[str, object], numbers: Numbers) -> str:
    """A phrase with its arguments; "{rows:whole}" is written by that way of `Numbers`."""

    def one(place: re.Match[str]) -> str:
        value = arguments.get(place[1], place[0])
        if place[2] not in _WAYS or not isinstance(value, int | float):
            return str(value)
        return str(getattr(numbers, place[2])(value))

    return _PLACE.sub(one, text)
