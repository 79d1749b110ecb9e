"""What the ledger keeps as one body: encoded with its version, and decoded by it.

A body is a dataclass of core as JSON. Its version tells how it was written, so that a ledger of
any age can be read: what an older version wrote in other words is put into today's before it is
decoded. A body without a version is of the time before bodies had one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

import msgspec

from humble_ledger.core.messages import AS_TOLD, TEXT
from humble_ledger.errors import LedgerUnreachable

T = TypeVar("T")

VERSION = 3
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


def _plan_without_wholes(plan: dict[str, Any]) -> dict[str, Any]:
    """What steps above call the table of a partition was once read off its alias when asked."""
    open_ = [plan["root"]] if plan.get("engine") == "postgresql" else []
    while open_:
        node = open_.pop()
        open_ += node.get("children", ())
        found = re.fullmatch(r"(.+)_\d+", node.get("alias", ""), re.DOTALL)
        node["whole_alias"] = found[1] if found else ""
    return plan


_VISITS = {
    "table_rows": "Heap Fetches", "exact_pages": "Exact Heap Blocks",
    "lossy_pages": "Lossy Heap Blocks", "cache_hits": "Cache Hits",
    "cache_misses": "Cache Misses", "pruned": "Subplans Removed",
}  # fmt: skip
_WORKERS = {"rows": "Actual Rows", "loops": "Actual Loops", "total_ms": "Actual Total Time"}


def _symptom_in_words(symptom: dict[str, Any]) -> dict[str, Any]:
    """Symptoms once kept their sentences."""
    symptom["summary"] = _as_told(symptom["summary"])
    symptom["cause"]["detail"] = _as_told(symptom["cause"]["detail"])
    return symptom


def _as_told(text: str) -> dict[str, Any]:
    return {"key": AS_TOLD, "arguments": {TEXT: text}}


def _remedy_by_fields(remedy: dict[str, Any]) -> dict[str, Any]:
    """What a remedy does was once told by fields of which most were empty."""
    told = {name: remedy.pop(name, None) for name in _TOLD}
    forward = [text.rstrip().rstrip(";") for text in remedy["apply"]]
    backward = [text.rstrip().rstrip(";") for text in remedy["revert"]]
    operation: dict[str, Any] = {"type": "custom", "forward": forward, "backward": backward}
    match told["type"]:
        case "index":
            name = told["index_name"] or ""
            operation = {"type": "create-index", "design": told["index"], "name": name}
        case "removal":
            schema, name = told["removes"]
            built = _BUILT.match(backward[0])
            on = told["removes_from"] or (_name(built) if built else "")
            table = {"schema": schema, "name": on}
            operation = {"type": "drop-index", "table": table, "name": name,
                         "definition": backward[0]}  # fmt: skip
        case "setting":
            operation = {"type": "set-settings", "settings": told["settings"] or []}
        case "rewrite":
            operation = {"type": "rewrite-statement", "old": backward[0], "new": forward[0],
                         "values_from": told["values_from"] or "",
                         "beside": told["beside"]}  # fmt: skip
        case "statistics":
            named = _CREATED.match(forward[0])
            operation["of_statistics"] = True
            if told["together"] and named:
                operation = {"type": "create-statistics", "name": _name(named), **told["together"]}
    return remedy | {"operation": operation}


def _name(found: re.Match[str]) -> str:
    return (found["quoted"] or found["plain"]).replace('""', '"')


_TOLD = (
    "type", "index", "index_name", "removes", "removes_from", "settings", "values_from", "beside",
    "together",
)  # fmt: skip
_NAME = r'(?:(?:\w+|"(?:[^"]|"")+")\.)?(?:"(?P<quoted>(?:[^"]|"")+)"|(?P<plain>\w+)) '
_CREATED = re.compile(f"CREATE STATISTICS {_NAME}")
_BUILT = re.compile(f"CREATE.* INDEX .*? ON (?:ONLY )?{_NAME}")  # the first table named after ON


_STEPS: Mapping[tuple[str, int], _Step] = {
    ("Plan", 0): _plan_without_typed_figures,
    ("Plan", 2): _plan_without_wholes,
    ("Symptom", 1): _symptom_in_words,
    ("Remedy", 2): _remedy_by_fields,
}


def brought_up(type_: str, version: int, content: dict[str, Any]) -> dict[str, Any]:
    """The content of a former version's body of this type, as today's would have it.

    Raises:
        KeyError, TypeError, AttributeError, ValueError: it is none of that version.
    """
    for each in range(version, VERSION):
        step = _STEPS.get((type_, each))
        content = step(content) if step is not None else content
    return content


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
        if not any((type_.__name__, each) in _STEPS for each in range(version, VERSION)):
            return msgspec.json.decode(content, type=type_)
        found = msgspec.json.decode(content)
        return msgspec.convert(brought_up(type_.__name__, version, found), type_)
    except (msgspec.DecodeError, KeyError, TypeError, AttributeError, ValueError) as error:
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
