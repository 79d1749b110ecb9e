"""One statement of a text, or none: the library runs all that stand in a text.

Where a statement ends the library itself says, while it prepares the first one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import apsw
import apsw.ext

from humble_ledger.errors import StatementRejected

_MOST_KNOWN = 2_000
_known: set[str] = set()


def require_one(connection: apsw.Connection, sql: str) -> None:
    """Make sure that a text holds one statement; it is prepared, and not run.

    Raises:
        StatementRejected: another one stands behind it.
        apsw.Error: it is none.
    """
    if sql in _known:
        return
    found = apsw.ext.query_info(connection, sql, bindings=None)
    if _is_something(found.query_remaining):
        raise StatementRejected(
            "The text holds more than one statement, and all of them would be run.",
            "Give them one at a time.",
        )
    if len(_known) >= _MOST_KNOWN:
        _known.clear()
    _known.add(sql)


def execute(
    connection: apsw.Connection,
    sql: str,
    values: Sequence[Any] | Mapping[str, Any] | None = None,
    *,
    can_cache: bool = True,
) -> apsw.Cursor:
    """Run a text that holds one statement."""
    require_one(connection, sql)
    return connection.execute(sql, values, can_cache=can_cache)


def _is_something(rest: str | None) -> bool:
    """Whether more than space, comments and semicolons follows.

    By SQLite's own rules: the core's tokens nest comments, and so would take more for one.
    """
    text = (rest or "").strip()
    while text:
        if text.startswith("--"):
            text = text.partition("\n")[2].strip()
        elif text.startswith("/*"):
            text = text.partition("*/")[2].strip()
        elif text.startswith(";"):
            text = text[1:].strip()
        else:
            return True
    return False
