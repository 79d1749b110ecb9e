"""MySQL's operations, each told in a line: "Index lookup on s using k (status = 'held')".

The same lines stand in its trees and in the second version of its JSON, so that both are read
from here.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from humble_ledger.core.plans.model import Operation
from humble_ledger.engines.mysql.plans.notation import at_commas, keys_of, noted


@dataclass(frozen=True, slots=True)
class Told:
    """What a line tells; "" and () where it tells nothing of it."""

    operation: Operation
    label: str
    alias: str = ""
    index: str = ""
    search: tuple[str, ...] = ()
    filter: tuple[str, ...] = ()
    join: tuple[str, ...] = ()
    join_type: str = ""
    keys: tuple[str, ...] = ()
    passes: bool = False  # its filter belongs to the step below
    skips: float = 0.0
    by_hash: bool = False
    cte: str = ""


_SCAN = re.compile(
    r"(?P<kind>(?:Covering |Single-row |Multi-range |Full-text |Single-row covering )?"
    r"(?:[Ii]ndex (?:range scan|skip scan|lookup|scan|search)|Index range scan)"
    r"(?: \(Multi-Range Read\))?) on (?P<table>\S+)"
    r"(?: \(re-planned for each iteration\))?(?: using (?P<index>`[^`]+`|\S+))?(?P<rest>.*)$",
    re.DOTALL,
)
_TABLE = re.compile(r"(?:Table scan|Constant row|Scan new records) (?:on|from) (?P<table>\S+)")
_JOIN = re.compile(
    r"(?P<how>Nested loop|Batched key access|Inner hash|Left hash|Hash|Semi hash|Anti hash)"
    r"(?: (?P<type>(?:inner |left |right |full )?join|antijoin|semijoin))?(?P<rest>.*)$",
    re.DOTALL,
)
_LIMIT = re.compile(r"Limit(?:/Offset)?: (?P<rows>\d+)(?:/(?P<skip>\d+))? row")
_TYPES = {"left join": "Left", "antijoin": "Anti", "semijoin": "Semi", "right join": "Right"}
_OVER = re.compile(r"^ over (?P<over>.*?)(?:, with index condition: (?P<pushed>.*))?$", re.DOTALL)
_BETWEEN = re.compile(
    r"^\(?(?P<low>'(?:[^'\\]|\\.|'')*'|[-\d.e+]+) (?P<first><=?) (?P<column>\w+)"
    r"(?: (?P<second><=?) (?P<high>'(?:[^'\\]|\\.|'')*'|[-\d.e+]+))?\)?$"
)


def told(line: str) -> Told:
    """What a line tells of its step."""
    text = line.strip()
    scan = _SCAN.match(text)
    if scan is not None:
        return _scan(scan)
    table = _TABLE.match(text)
    if table is not None:
        alias = table["table"].strip("`")
        if alias.startswith("<"):
            return Told(Operation.MATERIALIZE, "Read the temporary table", alias)
        return Told(Operation.FULL_SCAN, "Table scan", alias)
    if text.startswith("Filter: "):
        return Told(
            Operation.OTHER, "Filter", filter=(noted(text.removeprefix("Filter: ")),), passes=True
        )
    join = _JOIN.match(text)
    if join is not None and (join["type"] or "hash" in join["how"].lower()):
        return _joined(join, text)
    limit = _LIMIT.match(text)
    if limit is not None:
        return Told(Operation.LIMIT, "Limit", skips=float(limit["skip"] or 0))
    if text.startswith(("Sort", "Deduplicate rows")):
        keys = text.partition(": ")[2].partition(", limit input")[0]
        return Told(Operation.SORT, text.partition(":")[0], keys=keys_of(keys))
    return _other(text)


def _scan(found: re.Match[str]) -> Told:
    kind, rest = found["kind"], found["rest"].strip()
    alias = found["table"].strip("`")
    index = (found["index"] or "").strip("`")
    covering = "overing" in kind
    search: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    over = _OVER.match(found["rest"])
    if "lookup" in kind:
        inner = rest[1:] if rest.startswith("(") else rest
        body, _, pushed = inner.rpartition("), with index condition: ")
        inner = body or inner.rstrip(")") + (")" if inner.endswith("))") else "")
        search = tuple(_of_table(alias, part) for part in re.split(r"[,;] (?=\w+ ?=)", inner))
        filters = (noted(pushed),) if body and pushed else ()
    elif over is not None:
        led = over["pushed"]
        search = (noted(led),) if led else tuple(_ranges(alias, over["over"]))
    if alias.startswith("<") or index.startswith("<"):
        return Told(Operation.MATERIALIZE, "Search the temporary table", alias, search=search)
    operation = Operation.INDEX_ONLY_SCAN if covering else Operation.INDEX_SCAN
    return Told(operation, kind, alias, index, search, filters)


def _of_table(alias: str, part: str) -> str:
    """``status = 'held'`` of an index on a table, with the table's name."""
    column, sign, value = part.strip().partition(" = ")
    if not sign:
        column, sign, value = part.strip().partition("=")
    name = column.strip("` ")
    return noted(f"`{alias}`.`{name}` = {value}") if sign else noted(part)


def _ranges(alias: str, text: str) -> list[str]:
    """``(depot_id = 8 AND 20000 < weight_g)`` as conditions; alternatives stay one."""
    if ") OR (" in text:
        parts = [_ranges(alias, part) for part in text.strip("()").split(") OR (")]
        either = [" AND ".join(each) for each in parts]
        return [f"({' OR '.join(either)})"]
    found = []
    for part in text.strip().strip("()").split(" AND "):
        between = _BETWEEN.match(part.strip())
        if between is None:
            column, _, rest = part.strip().partition(" ")
            found.append(noted(f"`{alias}`.`{column.strip('`')}` {rest}"))
            continue
        name = f"`{alias}`.`{between['column']}`"
        turned = {"<": ">", "<=": ">="}[between["first"]]
        found.append(noted(f"{name} {turned} {between['low']}"))
        if between["second"]:
            found.append(noted(f"{name} {between['second']} {between['high']}"))
    return found


def _joined(found: re.Match[str], text: str) -> Told:
    hashed = "hash" in found["how"].lower()
    rest = found["rest"].strip()
    kind = found["type"] or ""
    how = found["how"]
    join_type = _TYPES.get(kind, "Left" if how.startswith("Left") else "Inner")
    if not kind and rest.startswith(("antijoin", "semijoin")):
        join_type = "Anti" if rest.startswith("anti") else "Semi"
    condition: tuple[str, ...] = ()
    inner = rest[rest.find("(") :] if "(" in rest else ""
    if hashed and inner and "no condition" not in inner:
        parts = at_commas(inner.strip())
        condition = tuple(noted(part.strip("()")) for part in parts if part.strip("()"))
    operation = Operation.HASH_JOIN if hashed else Operation.NESTED_LOOP
    label = "Hash join" if hashed else how
    if "FirstMatch" in text:
        join_type = "Semi"
    return Told(operation, label, join=condition, join_type=join_type)


_OTHERS = (
    ("Group aggregate", Operation.AGGREGATE), ("Group (no", Operation.AGGREGATE),
    ("Aggregate", Operation.AGGREGATE), ("Window", Operation.WINDOW),
    ("Temporary table with dedup", Operation.DISTINCT), ("Remove duplicate", Operation.DISTINCT),
    ("Union", Operation.APPEND), ("Append", Operation.APPEND), ("Intersect", Operation.BITMAP_SCAN),
    ("Except", Operation.SET_OPERATION), ("Materialize", Operation.MATERIALIZE),
    ("Stream results", Operation.OTHER), ("Rows fetched before", Operation.RESULT),
    ("Zero rows", Operation.RESULT), ("Update", Operation.MODIFY), ("Delete", Operation.MODIFY),
    ("Insert", Operation.MODIFY), ("Replace", Operation.MODIFY), ("Weedout", Operation.DISTINCT),
    ("Sort-deduplicate", Operation.BITMAP_SCAN), ("Index merge", Operation.BITMAP_SCAN),
)  # fmt: skip


def _other(text: str) -> Told:
    label = text.partition(":")[0].strip()
    operation = next((o for words, o in _OTHERS if text.startswith(words)), Operation.OTHER)
    by_hash = operation is Operation.AGGREGATE and "temporary table" in text
    cte = text.rpartition("CTE ")[2].split()[0].strip("`") if " CTE " in text else ""
    return Told(operation, label or text, by_hash=by_hash, cte=cte)
