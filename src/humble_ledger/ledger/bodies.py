"""What the ledger keeps as one body: encoded with its version, and decoded by it.

A body is a dataclass of core as JSON. Its version tells how it was written, so that a ledger of
any age can be read: what an older version wrote in other words is put into today's before it is
decoded. A body without a version is of the time before bodies had one.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

import msgspec

from humble_ledger.errors import LedgerUnreachable

T = TypeVar("T")

VERSION = 1
_BEGIN = b'{"body_version":'
_THEN = b',"body":'

# Of each type and version: what makes a body of the next version out of it. To change a class
# that is kept, raise `VERSION`, and say here how older bodies become new ones.
_STEPS: Mapping[tuple[str, int], Callable[[dict[str, Any]], dict[str, Any]]] = {}


def encoded(thing: object) -> bytes:
    """A body to be kept."""
    return b"%b%d%b%b}" % (_BEGIN, VERSION, _THEN, msgspec.json.encode(thing))


def decoded(body: bytes, type_: type[T], what: str) -> T:
    """A body that was kept; ``what`` names the entry it belongs to, as "p3".

    Raises:
        LedgerUnreachable: it is of a newer version, has a word that this one does not know, or
            is damaged.
    """
    version, content = _parted(body)
    if version > VERSION:
        raise _unknown(what, f"it was written in form {version}, and this version reads {VERSION}")
    try:
        steps = [_STEPS.get((type_.__name__, each)) for each in range(version, VERSION)]
        if not any(steps):
            return msgspec.json.decode(content, type=type_)
        found = msgspec.json.decode(content)
        for step in steps:
            found = step(found) if step is not None else found
        return msgspec.convert(found, type_)
    except (msgspec.DecodeError, KeyError, TypeError, AttributeError) as error:
        raise _unknown(what, str(error)) from error


def _parted(body: bytes) -> tuple[int, bytes]:
    """The version and the content; 0 for a body that has none."""
    if not body.startswith(_BEGIN):
        return 0, body
    number, _, content = body[len(_BEGIN) :].partition(_THEN)
    return (int(number), content[:-1]) if number.isdigit() else (VERSION + 1, b"")


def _unknown(what: str, why: str) -> LedgerUnreachable:
    return LedgerUnreachable(
        f"The entry {what} of this ledger cannot be read: {why}.",
        "Was it written by a newer version? Read it with that one, or take a copy from before.",
    )
