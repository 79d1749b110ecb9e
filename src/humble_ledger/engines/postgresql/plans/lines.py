"""A line below a step in EXPLAIN's text, "Sort Method: quicksort  Memory: 25kB", to fields."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from humble_ledger.core.statements.tokens import TokenKind, tokens

Reader = Callable[[str, str], dict[str, Any]]  # the line, and what stands behind its name
_LISTS = frozenset(
    ("Output", "Sort Key", "Presorted Key", "Group Key", "Hash Key", "Conflict Arbiter Indexes")
)
_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")
_KIB = re.compile(r"(\d+)kB")
_PART = re.compile(r"([A-Z][\w/ -]{0,60}?): (.*?)(?=  [A-Z]|$)")
# Lines of several parts, and what their parts are called in a JSON plan.
_CACHE = {"Hits": "Cache Hits", "Misses": "Cache Misses", "Evictions": "Cache Evictions",
          "Overflows": "Cache Overflows", "Memory Usage": "Peak Memory Usage"}  # fmt: skip
_WORDS = frozenset(
    ("Filter", "Index Cond", "Recheck Cond", "Join Filter", "Hash Cond", "Merge Cond", "TID Cond",
     "One-Time Filter", "Order By", "Run Condition", "Function Call", "Cache Key", "Cache Mode",
     "Remote SQL", "Sampling", "Conflict Filter", "Window", "Table Function Call")
)  # fmt: skip
_ORIGINAL = re.compile(r"(\d+) \(originally (\d+)\)")
_BLOCK_KINDS = {"hit": "Hit", "read": "Read", "dirtied": "Dirtied", "written": "Written"}


def fields_of_line(line: str) -> dict[str, Any]:
    """The fields that a JSON plan would have for this line."""
    name, colon, rest = line.partition(":")
    rest = rest.strip()
    if not colon:
        return {line: True}
    if name in _WORDS:
        return {name: rest}
    if name in _LISTS:
        return {name: split_list(rest)}
    reader = _READERS.get(name)
    if reader is not None:
        return reader(line, rest)
    parts = dict(_PART.findall(line))
    return {key: _value(value) for key, value in parts.items()} or {name: _value(rest)}


def split_list(text: str) -> list[str]:
    """A list like "a, f(b, c), 'd, e'" parted at the commas outside brackets and strings."""
    parts, start, depth = [], 0, 0
    for token in tokens(text):
        if token.kind is not TokenKind.PUNCTUATION:
            continue
        if token.text in "([":
            depth += 1
        elif token.text in ")]":
            depth -= 1
        elif token.text == "," and depth == 0:
            parts.append(text[start : token.start].strip())
            start = token.end
    return [*parts, text[start:].strip()]


def _value(text: str) -> Any:
    text = text.strip()
    kib = _KIB.fullmatch(text)
    if kib is not None:
        return int(kib[1])
    if _NUMBER.fullmatch(text):
        return float(text) if "." in text else int(text)
    return {"true": True, "false": False}.get(text, text)


def _buffers(_: str, text: str) -> dict[str, Any]:
    """Pairs like "shared hit=1 read=2, temp written=3"; what is not named is nought."""
    found: dict[str, Any] = {}
    for scope in ("Shared", "Local", "Temp"):
        for kind in ("Read", "Written") if scope == "Temp" else _BLOCK_KINDS.values():
            found[f"{scope} {kind} Blocks"] = 0
    for group in text.split(", "):
        scope, _, pairs = group.partition(" ")
        for key, value in re.findall(r"(\w+)=(\d+)", pairs):
            found[f"{scope.capitalize()} {_BLOCK_KINDS[key]} Blocks"] = int(value)
    return found


def _io_times(_: str, text: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for group in text.split(", "):
        scope, _, pairs = group.rpartition(" ") if group.count(" ") == 0 else group.partition(" ")
        for key, value in re.findall(r"(\w+)=([\d.]+)", pairs):
            name = f"{scope.capitalize()} I/O {key.capitalize()} Time" if scope else (
                f"I/O {key.capitalize()} Time"
            )  # fmt: skip
            found[name] = float(value)
    return found


def _named(names: Mapping[str, str]) -> Reader:
    """Pairs like "exact=12 lossy=3" or "Hits: 1  Misses: 2", the parts under the names given."""

    def read(line: str, rest: str) -> dict[str, Any]:
        pairs = re.findall(r"([\w ]+?)=([\w.]+)", rest) or _PART.findall(line)
        shown = [(key.strip(), value) for key, value in pairs]
        return {names[key]: _value(value) for key, value in shown if key in names}

    return read


def _sort(line: str, _: str) -> dict[str, Any]:
    parts = dict(_PART.findall(line))
    found: dict[str, Any] = {"Sort Method": parts["Sort Method"].strip()}
    for kind in ("Memory", "Disk"):
        if kind in parts:
            found["Sort Space Used"], found["Sort Space Type"] = _value(parts[kind]), kind
    return found


def _sort_groups(line: str, _: str) -> dict[str, Any]:
    parts = dict(_PART.findall(line))
    name, count = next(iter(parts.items()))
    method = parts.get("Sort Method") or parts.get("Sort Methods", "")
    found: dict[str, Any] = {
        "Group Count": int(count),
        "Sort Methods Used": [each.strip() for each in method.split(",")],
    }
    for kind in ("Memory", "Disk"):
        if f"Average {kind}" in parts:
            found[f"Sort Space {kind}"] = {
                "Average Sort Space Used": _value(parts[f"Average {kind}"]),
                "Peak Sort Space Used": _value(parts[f"Peak {kind}"]),
            }
    return {name: found}


def _hash(line: str, _: str) -> dict[str, Any]:
    parts = dict(_PART.findall(line))
    found: dict[str, Any] = {}
    for key in ("Buckets", "Batches"):
        text = parts.get(key, "0")
        original = _ORIGINAL.fullmatch(text.strip())
        now_, first = (original[1], original[2]) if original else (text, text)
        found[f"Hash {key}"], found[f"Original Hash {key}"] = int(now_), int(first)
    if "Memory Usage" in parts:
        found["Peak Memory Usage"] = _value(parts["Memory Usage"])
    return found


_READERS: Mapping[str, Reader] = {
    "Buffers": _buffers,
    "I/O Timings": _io_times,
    "WAL": _named(
        {"records": "WAL Records", "fpi": "WAL FPI", "bytes": "WAL Bytes",
         "buffers full": "WAL Buffers Full"}
    ),
    "Heap Blocks": _named({"exact": "Exact Heap Blocks", "lossy": "Lossy Heap Blocks"}),
    "Memory": _named({"used": "Memory Used", "allocated": "Memory Allocated"}),
    "Full-sort Groups": _sort_groups,
    "Pre-sorted Groups": _sort_groups,
    "Sort Method": _sort,
    "Buckets": _hash,
    "Hits": _named(_CACHE),
    "Batches": _named(
        {"Batches": "HashAgg Batches", "Memory Usage": "Peak Memory Usage",
         "Disk Usage": "Disk Usage"}
    ),
}  # fmt: skip
