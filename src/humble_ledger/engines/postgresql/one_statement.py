"""Cursors that cannot send more than one statement, whatever text they are given.

A string that goes by the simple query protocol may hold any number of statements, and the
server runs all of them. By the extended protocol it parses the text itself and refuses a
second statement ("cannot insert multiple commands into a prepared statement"). So it is the
server's own parser that decides, with the server's own settings, and never our lexer: a
comment that ends at a carriage return, E'' strings, `standard_conforming_strings`, dollar
quotes and whatever comes next are its business.

Every connection of ours uses these cursors for everything, users' texts and our own.
"""

from __future__ import annotations

import inspect
import re
from typing import Any

import psycopg
from psycopg import RawCursor
from psycopg.rows import TupleRow, tuple_row

# Stands inside our own questions, so that the server's statistics of statements can be told
# from what the users run. Behind the first word: a server may drop comments before it.
OWN_MARK = "/* humble-ledger */"
_FIRST_WORD = re.compile(r"\s*(?:SELECT|WITH)\b")

# The driver chooses the simple protocol for a statement without values and has no public
# switch for it. Should a later driver choose elsewhere, nothing must be sent at all.
if "force_extended" not in inspect.signature(psycopg.Cursor._execute_send).parameters:
    raise ImportError("this version of psycopg cannot be told to use the extended protocol")


class OwnCursor(psycopg.Cursor[TupleRow]):
    """For our own questions: they carry our mark."""

    def execute(self, query: Any, *arguments: Any, **options: Any) -> Any:
        """Send one question, with our mark behind its first word."""
        if isinstance(query, str) and (match := _FIRST_WORD.match(query)) is not None:
            query = f"{match[0]} {OWN_MARK}{query[match.end() :]}"
        return super().execute(query, *arguments, **options)

    def _execute_send(self, query: Any, **options: Any) -> None:
        super()._execute_send(query, **{**options, "force_extended": True})


def texts_of(cursor: psycopg.Cursor[Any], most: int | None = None) -> list[tuple[str | None, ...]]:
    """The rows of a result as the server wrote them, at most so many; NULL is None."""
    result, encoding = cursor.pgresult, cursor.connection.info.encoding
    assert result is not None
    rows = result.ntuples if most is None else min(result.ntuples, most)
    return [
        tuple(
            None
            if (value := result.get_value(row, place)) is None
            else value.decode(encoding, "replace")
            for place in range(result.nfields)
        )
        for row in range(rows)
    ]


class UserCursor(RawCursor[TupleRow]):
    """For a user's statement, which has $1 … for its values."""

    def __init__(self, connection: psycopg.Connection[Any]) -> None:
        super().__init__(connection, row_factory=tuple_row)

    def _execute_send(self, query: Any, **options: Any) -> None:
        super()._execute_send(query, **{**options, "force_extended": True})
