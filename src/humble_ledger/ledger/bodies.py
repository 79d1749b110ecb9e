"""What the ledger keeps as one body: encoded with its version, and decoded by it.

A body is a dataclass of core as JSON. Its version tells how it was written, so that a ledger of
any age can be read: what an older version wrote in other words is put into today's before it is
decoded. A body without a version is of the time before bodies had one.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

import msgspec

from humble_ledger.core.messages import AS_TOLD, TEXT
from humble_ledger.errors import LedgerUnreachable

T = TypeVar("T")

VERSION = 2
_BEGIN = b'{"body_version":'
_THEN = b',"body":'

# Of each type and version: what makes a body of the next version out of it. To change a class
# that is kept, raise `VERSION`, and say here how older bodies become new ones.
_Step = Callable[[dict[str, Any]], dict[str, Any]]


def _plan_without_typed_figures(plan: dict[str, Any]) -> dict[str, Any]:
    """Plans once kept figures of a step, and of its workers, under the server's own names."""
    open_ = [plan["root"]]
    while open_:
        node = open_.pop()
        open_ += node.get("children", ())
        details = node.get("details", {})
        numbers = {key: details[name] for key, name in _VISITS.items() if details.get(name)}
        grouping = node["operation"] in ("aggregate", "group", "set_operation")
        node |= {
            "visits": numbers,
            "by_hash": grouping and "Hash" in node["label"],
            "disabled": details.get("Disabled") is True,
            "cte_name": details.get("CTE Name", ""),
        }
        processes = node.get("processes")
        if processes:
            processes["each"] = [
                {key: worker.get(name) or 0.0 for key, name in _WORKERS.items()}
                for worker in processes.get("each", ())
            ]
    return plan


_VISITS = {
    "table_rows": "Heap Fetches", "exact_pages": "Exact Heap Blocks",
    "lossy_pages": "Lossy Heap Blocks", "cache_hits": "Cache Hits",
    "cache_misses": "Cache Misses", "pruned": "Subplans Removed",
}  # fmt: skip
_WORKERS = {"rows": "Actual Rows", "loops": "Actual Loops", "total_ms": "Actual Total Time"}


def symptom_in_words(symptom: dict[str, Any]) -> dict[str, Any]:
    """Symptoms once kept their sentences."""
    symptom["summary"] = _as_told(symptom["summary"])
    symptom["cause"]["detail"] = _as_told(symptom["cause"]["detail"])
    return symptom


def _as_told(text: str) -> dict[str, Any]:
    return {"key": AS_TOLD, "arguments": {TEXT: text}}


_STEPS: Mapping[tuple[str, int], _Step] = {
    ("Plan", 0): _plan_without_typed_figures,
    ("Symptom", 1): symptom_in_words,
}


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
