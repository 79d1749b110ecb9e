"""Plans that people saved: with a client's frame, its vertical form, or other words around them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from humble_ledger.engines.mysql.plans.iterators import tree_of_text
from humble_ledger.engines.mysql.plans.json_text import decoded
from humble_ledger.errors import UnreadableInput

_FRAME = re.compile(r"^\s*\+[-+]+\+\s*$", re.MULTILINE)
_VERTICAL = re.compile(r"^\*+ \d+\. row \*+$", re.MULTILINE)
_TREE = re.compile(r"(?:^|[|\s])-> [A-Z<]")
_TREE_WORDS = ("cost=", "actual time", " rows=", "using", "not executable")
_TABLE_COLUMNS = ("select_type", "possible_keys", "key_len")
_JSON_MARKS = ('"query_block"', '"query_plan"', '"mysql_plan"')


def kind_of(text: str) -> str:
    """What a text is: "json", "tree", "table", or "" for none of these."""
    start = text[:20_000]
    if "{" in start and any(mark in start for mark in _JSON_MARKS):
        return "json"
    if _TREE.search(start) and any(word in start for word in _TREE_WORDS):
        return "tree"
    if all(column in start for column in _TABLE_COLUMNS):
        return "table"
    return ""


def document_of(text: str) -> Mapping[str, Any]:
    """The document in a text, in whatever form.

    Raises:
        UnreadableInput: it is none, or breaks off.
    """
    kind = kind_of(text)
    if kind == "json":
        return _json(text)
    if kind == "tree":
        return {"tree": tree_of_text(_unframed(text))}
    if kind == "table":
        rows = _rows(text)
        if rows:
            return {"rows": rows}
    raise UnreadableInput(
        "This is no plan of MariaDB or MySQL that can be read.",
        "Save what  EXPLAIN FORMAT=JSON …  or  EXPLAIN ANALYZE …  gives.",
    )


def _json(text: str) -> Mapping[str, Any]:
    begun = text.index("{")
    inner = text[begun:]
    if _FRAME.search(text) or "\\n" in inner[:200]:
        inner = "\n".join(line.strip().strip("|").rstrip() for line in inner.splitlines())
        inner = _FRAME.sub("", inner).replace("\\n", "\n").replace('\\"', '"')
    end = _end_of(inner)
    if end is None:
        raise UnreadableInput(
            f"This plan breaks off after {len(text.splitlines()):,} lines: its last brace is "
            "missing.",
            "Save it whole; some clients cut long columns.",
        )
    try:
        found = decoded(inner[:end])
    except ValueError as error:
        raise UnreadableInput(f"This is no whole document: {error}.") from error
    if not isinstance(found, dict):
        raise UnreadableInput("This is no plan: an object was expected.")
    return found


def _end_of(text: str) -> int | None:
    """The place behind the brace that closes the first one."""
    depth, quoted, escaped = 0, False, False
    for place, letter in enumerate(text):
        if quoted:
            if escaped:
                escaped = False
            elif letter == "\\":
                escaped = True
            elif letter == '"':
                quoted = False
        elif letter == '"':
            quoted = True
        elif letter == "{":
            depth += 1
        elif letter == "}":
            depth -= 1
            if depth == 0:
                return place + 1
    return None


def _unframed(text: str) -> str:
    """A tree without a client's frame and head."""
    lines = []
    for line in text.replace("\\n", "\n").splitlines():
        if _FRAME.match(line) or _VERTICAL.match(line):
            continue
        bare = re.sub(r"^\s*\|\s?", "", line)
        bare = re.sub(r"\s*\|\s*$", "", bare)
        bare = re.sub(r"^EXPLAIN: ", "", bare)
        lines.append(bare)
    return "\n".join(line for line in lines if line.strip() != "EXPLAIN")


def _rows(text: str) -> Sequence[Mapping[str, str]]:
    if _VERTICAL.search(text):
        return [_vertical(part) for part in _VERTICAL.split(text)[1:]]
    framed = _FRAME.search(text) is not None
    split = _cells if framed else _tabbed
    rows: list[dict[str, str]] = []
    head: list[str] | None = None
    for line in text.splitlines():
        cells = split(line)
        if cells is None:
            continue
        if head is None:
            if all(column in cells for column in _TABLE_COLUMNS):
                head = cells
        elif len(cells) == len(head):
            rows.append(dict(zip(head, cells, strict=True)))
        elif cells and cells[0] in ("Level", "Note"):
            break
    return rows


def _cells(line: str) -> list[str] | None:
    if not line.lstrip().startswith("|"):
        return None
    return [cell.strip() for cell in line.strip().strip("|").split(" | ")]


def _tabbed(line: str) -> list[str] | None:
    return [cell.strip() for cell in line.split("\t")] if "\t" in line else None


def _vertical(part: str) -> dict[str, str]:
    found = {}
    for line in part.splitlines():
        name, sign, value = line.partition(":")
        if sign:
            found[name.strip()] = value.strip()
    return found
