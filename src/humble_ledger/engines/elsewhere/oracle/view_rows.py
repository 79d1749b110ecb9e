"""Rows of the views of plans (plan table, plans of cursors with their statistics): CSV or JSON."""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Mapping, Sequence
from io import StringIO
from typing import Any

from humble_ledger.core.statements.masking import masked_expression
from humble_ledger.engines.elsewhere.json_text import decoded, number
from humble_ledger.engines.elsewhere.oracle.rows import Display, Row
from humble_ledger.errors import UnreadableInput

SAVING = "Save the rows of the view with their column names: ID, PARENT_ID, OPERATION, OPTIONS, …"
_NAMES = ("operation", "parent_id", "options")
_PLACED = frozenset(
    """id parent_id depth operation options object_owner object_name object_alias cost cardinality
    bytes access_predicates filter_predicates last_starts last_output_rows last_cr_buffer_gets
    last_cu_buffer_gets last_disk_reads last_disk_writes last_elapsed_time last_memory_used
    last_execution last_tempseg_size partition_start partition_stop distribution object_node
    position sql_id child_number plan_hash_value address hash_value sql_text""".split()
)
_PASSES = {"OPTIMAL": 0, "1 PASS": 1}
_WITH_VALUES = frozenset(("sql_text", "sql_fulltext", "other_xml", "other", "projection"))
# Clients write a table's JSON in several ways around the rows.
_AROUND = ("items", "rows", "results", "data")


def looks_like(text: str) -> bool:
    """Whether a text names the columns of such a view, as CSV or as JSON."""
    start = text[:4_000].lower()
    first = start.lstrip().split("\n", 1)[0]
    if all(name in first for name in _NAMES) and not first.startswith(("{", "[")):
        return True
    quoted = all(f'"{name}"' in start for name in ("operation", "parent_id"))
    return quoted and start.lstrip()[:1] in ("{", "[")


def displays(text: str) -> Sequence[Display]:
    """The plans in a text: rows of each cursor are one.

    Raises:
        UnreadableInput: the rows have no numbers, or hang below none.
    """
    rows = _rows_of_json(text) if text.lstrip()[:1] in ("{", "[") else _rows_of_csv(text)
    groups: dict[tuple[str, str, str], list[Mapping[str, Any]]] = {}
    for row in rows:
        key = tuple(str(row.get(name) or "") for name in ("sql_id", "child_number",
                                                          "plan_hash_value"))  # fmt: skip
        groups.setdefault((key[0], key[1], key[2]), []).append(row)
    if not groups:
        raise UnreadableInput("There is no row of a plan in this text.", SAVING)
    return [_display(each, key[0], key[2]) for key, each in groups.items()]


def masked(text: str) -> str:
    """The rows as JSON, without their statement and without literals in their conditions."""
    rows = _rows_of_json(text) if text.lstrip()[:1] in ("{", "[") else _rows_of_csv(text)
    kept = [
        {
            key: masked_expression(str(value)) if key.endswith("_predicates") and value else value
            for key, value in row.items()
            if key not in _WITH_VALUES
        }
        for row in rows
    ]
    return json.dumps(kept)


def _rows_of_csv(text: str) -> Sequence[Mapping[str, Any]]:
    first = text.lstrip().split("\n", 1)[0]
    sign = max((",", ";", "\t", "|"), key=first.count)
    try:
        reader = csv.DictReader(StringIO(text.lstrip()), delimiter=sign, skipinitialspace=True)
        return [_small(row) for row in reader]
    except csv.Error as error:
        raise UnreadableInput(f"This CSV cannot be read: {error}.", SAVING) from error


def _rows_of_json(text: str) -> Sequence[Mapping[str, Any]]:
    found = decoded(text, SAVING)
    while isinstance(found, Mapping):
        lower = {str(key).lower(): value for key, value in found.items()}
        inner = next((lower[name] for name in _AROUND if name in lower), None)
        if inner is None:
            found = [found]
        else:
            found = inner[0] if isinstance(inner, list) and _nested(inner) else inner
    if not isinstance(found, list) or not all(isinstance(each, Mapping) for each in found):
        raise UnreadableInput("These are no rows of a plan: it is no list of objects.", SAVING)
    return [_small(row) for row in found]


def _nested(inner: list[Any]) -> bool:
    return (
        len(inner) == 1
        and isinstance(inner[0], Mapping)
        and any(str(key).lower() in _AROUND for key in inner[0])
    )


def _small(row: Mapping[Any, Any]) -> dict[str, Any]:
    return {str(key).strip().lower(): value for key, value in row.items() if key is not None}


def _display(raw: Sequence[Mapping[str, Any]], sql_id: str, plan_hash: str) -> Display:
    depths: dict[int, int] = {}
    rows = []
    for place, each in enumerate(sorted(raw, key=lambda r: number(r.get("id")) or 0.0), 1):
        id_, parent = number(each.get("id")), number(each.get("parent_id"))
        if id_ is None:
            raise UnreadableInput(f"Row {place} of this plan has no ID.", SAVING)
        if parent is not None and int(parent) not in depths:
            raise UnreadableInput(
                f"Row {int(id_)} of this plan hangs below row {int(parent)}, which is missing.",
                SAVING,
            )
        depths[int(id_)] = 0 if parent is None else depths[int(parent)] + 1
        rows.append(_row(each, int(id_), depths[int(id_)]))
    texts = (str(each.get("sql_text") or "") for each in raw)
    return Display(rows, next((t for t in texts if t), ""), plan_hash, sql_id)


def _row(raw: Mapping[str, Any], id_: int, depth: int) -> Row:
    def figure(name: str) -> float | None:
        return number(raw.get(name))

    def text(name: str) -> str:
        return str(raw.get(name) or "").strip()

    took, rows = figure("last_elapsed_time"), figure("cardinality")
    gets = [figure(name) for name in ("last_cr_buffer_gets", "last_cu_buffer_gets")]
    alias = re.match(r'"?([^"@]+)"?@', text("object_alias"))
    whole = figure("bytes")
    memory, temp = figure("last_memory_used"), figure("last_tempseg_size")
    execution = text("last_execution").upper()
    return Row(
        id_,
        depth,
        f"{text('operation')} {text('options')}".strip(),
        text("object_name"),
        text("object_owner"),
        alias[1] if alias else "",
        rows,
        whole / rows if whole and rows else None,
        figure("cost"),
        figure("last_starts"),
        figure("last_output_rows"),
        None if took is None else took / 1000,
        sum(g or 0.0 for g in gets) if any(g is not None for g in gets) else None,
        figure("last_disk_reads"),
        figure("last_disk_writes"),
        None if memory is None else round(memory),
        _PASSES.get(execution, 2) if execution else None,
        None if temp is None else round(temp),
        (text("partition_start"), text("partition_stop")),
        text("distribution"),
        text("object_node"),
        text("access_predicates"),
        text("filter_predicates"),
        {k: str(v) for k, v in raw.items() if k not in _PLACED and v not in (None, "")},
    )
