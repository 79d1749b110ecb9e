"""The first table of a document as CSV (RFC 4180), for sheets and for programs."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any

import msgspec

from humble_ledger.views.escaping import escaped

# What a spreadsheet takes for a formula; a statement of a stranger may begin so.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def _rows_of(document: msgspec.Struct) -> Sequence[msgspec.Struct]:
    """The first list of rows in a document that has any."""
    for name in document.__struct_fields__:
        value = getattr(document, name)
        if isinstance(value, list) and value and isinstance(value[0], msgspec.Struct):
            return value
    return ()


def as_csv(document: msgspec.Struct) -> str:
    """The first table of a document; "" when it has none."""
    found = _rows_of(document)
    if not found:
        return ""
    columns, rows = _cells(found)
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\r\n")
    writer.writerow(columns)
    writer.writerows([_harmless(cell) for cell in row] for row in rows)
    return text.getvalue()


def _cells(structs: Sequence[msgspec.Struct]) -> tuple[list[str], list[list[Any]]]:
    """Names of columns and rows of plain values; what has parts is JSON."""
    columns = list(structs[0].__struct_fields__)
    rows = [
        [_plain(msgspec.to_builtins(getattr(each, name))) for name in columns] for each in structs
    ]
    return columns, rows


def _plain(value: Any) -> Any:
    if isinstance(value, list) and all(isinstance(each, str) for each in value):
        return ", ".join(value)
    if isinstance(value, dict | list):
        return msgspec.json.encode(value).decode()
    return value


def _harmless(cell: Any) -> Any:
    if cell is None:
        return ""
    if not isinstance(cell, str):
        return cell
    # It may be shown by a terminal before a sheet reads it.
    return escaped(f"'{cell}" if cell.startswith(_FORMULA) else cell)
