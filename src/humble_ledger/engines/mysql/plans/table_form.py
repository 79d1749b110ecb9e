"""The plain table of EXPLAIN, as rows of its columns, in the form of the blocks' JSON."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any


def blocks_of(rows: Sequence[Mapping[str, str]]) -> Mapping[str, Any]:
    """The document of rows: each SELECT a block, those below hung at their tables."""
    selects: dict[int, list[Mapping[str, str]]] = {}
    kinds: dict[int, str] = {}
    order: list[int] = []
    for row in rows:
        number = int(row.get("id") or 0) if str(row.get("id") or "").isdigit() else 0
        if number not in selects:
            selects[number] = []
            order.append(number)
            kinds[number] = str(row.get("select_type", ""))
        selects[number].append(row)
    blocks = {n: _block(n, selects[n]) for n in order}
    top = order[0] if order else 0
    for number in order[1:]:
        _hang(blocks, number, kinds[number], top)
    unions = [n for n in order if kinds[n] in ("UNION", "DEPENDENT UNION", "UNCACHEABLE UNION")]
    if kinds.get(top) == "PRIMARY" and unions and any(kinds[n] == "UNION" for n in unions):
        members = [top, *(n for n in unions if kinds[n] == "UNION")]
        return {
            "query_block": {
                "union_result": {
                    "query_specifications": [{"query_block": blocks[n]} for n in members]
                }
            }
        }
    return {"query_block": blocks.get(top, {"select_id": 1, "table": {"message": "No tables"}})}


def _block(number: int, rows: Sequence[Mapping[str, str]]) -> dict[str, Any]:
    members: list[dict[str, Any]] = []
    sorts = stores = False
    for row in rows:
        extra = str(row.get("Extra") or "")
        sorts = sorts or "Using filesort" in extra
        stores = stores or "Using temporary" in extra
        table = _table(row, extra)
        if "Using join buffer" in extra and members:
            inside = extra.partition("Using join buffer")[2].partition(")")[0].strip(" (")
            hashed = "hash" in inside or "BNLH" in inside
            kind = "BNLH" if hashed else "BKA" if "BKA" in inside or "Batched" in inside else "BNL"
            members.append({"block-nl-join": {"table": table, "join_type": kind}})
        else:
            members.append({"table": table})
    block: dict[str, Any] = {"nested_loop": members}
    if stores:
        block = {"temporary_table": block}
    if sorts:
        block = {"filesort": {"sort_key": "", **block}}
    return {"select_id": number, **block}


def _table(row: Mapping[str, str], extra: str) -> dict[str, Any]:
    name = row.get("table")
    if not name or name == "NULL":
        return {"message": extra or "No tables used"}
    table: dict[str, Any] = {"table_name": name, "access_type": row.get("type") or "ALL"}
    for ours, theirs in (("key", "key"), ("key_length", "key_len"), ("rows", "rows"),
                         ("filtered", "filtered"), ("r_rows", "r_rows"),
                         ("r_filtered", "r_filtered")):  # fmt: skip
        value = row.get(theirs)
        if value not in (None, "", "NULL"):
            table[ours] = value
    if "r_rows" in table:
        table["r_loops"] = 1
    refs = row.get("ref")
    if refs not in (None, "", "NULL"):
        table["ref"] = str(refs).split(",")
    words = [word.strip() for word in extra.split(";")]
    table["using_index"] = any(w in ("Using index", "Using index for group-by") for w in words)
    table["extra"] = extra
    if table["access_type"] == "index_merge" and "Using " in extra:
        table["key"] = next((w.removeprefix("Using ") for w in words if "(" in w), "")
    return table


def _hang(blocks: dict[int, dict[str, Any]], number: int, kind: str, top: int) -> None:
    """Put a block where its table is read, or below the first one as a sub-query."""
    if kind in ("UNION", "UNION RESULT"):
        return
    name = f"<derived{number}>" if kind == "DERIVED" else f"<subquery{number}>"
    for other, block in blocks.items():
        if other == number:
            continue
        for table in _tables(block):
            if table.get("table_name") == name:
                table["materialized"] = {"query_block": blocks[number]}
                return
    if kind.startswith(("SUBQUERY", "DEPENDENT", "UNCACHEABLE", "MATERIALIZED")):
        entry = {"dependent": kind.startswith("DEPENDENT"), "query_block": blocks[number]}
        blocks[top].setdefault("attached_subqueries", []).append(entry)


def _tables(part: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    if isinstance(part, dict):
        if "table_name" in part:
            found.append(part)
        for value in part.values():
            found += _tables(value)
    elif isinstance(part, list):
        for value in part:
            found += _tables(value)
    return found
