"""Asking the library for rows, with types that fit what they hold.

Conditions and keys of others may stand in what is asked, so that it is one statement or none.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import apsw

from humble_ledger.engines.sqlite.one_statement import execute

Row = tuple[Any, ...]


def rows(
    connection: apsw.Connection, sql: str, values: Sequence[Any] | Mapping[str, Any] | None = None
) -> list[Row]:
    """All rows of a statement."""
    return list(execute(connection, sql, values))


def row(
    connection: apsw.Connection, sql: str, values: Sequence[Any] | Mapping[str, Any] | None = None
) -> Row:
    """The one row of a statement that always has one."""
    return rows(connection, sql, values)[0]
