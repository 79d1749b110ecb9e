"""The parser's reading of SQL, as far as it must not change what it reads.

It has trees of its own for some functions of geometry, forgets by which name they were called,
and writes another one, which is not always the same function (ST_MakePoint of three numbers).
"""

from __future__ import annotations

from typing import Any

from sqlglot.dialects.postgres import Postgres

_Parser: Any = Postgres.Parser

DIALECT = "asitwaswritten"


class AsItWasWritten(Postgres):
    """PostgreSQL's SQL, in which functions of geometry keep their names."""

    class Parser(_Parser):  # type: ignore[misc]
        """The parser without trees of its own for functions of geometry."""

        FUNCTIONS = {  # noqa: RUF012 - as the parser's own class has it
            name: build for name, build in _Parser.FUNCTIONS.items() if not name.startswith("ST_")
        }
