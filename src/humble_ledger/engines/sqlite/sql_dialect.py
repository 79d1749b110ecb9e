"""The parser's reading of SQLite's SQL, as far as it must not change what it reads."""

from __future__ import annotations

from typing import Any

from sqlglot.dialects.sqlite import SQLite
from sqlglot.tokenizer_core import TokenType

_Tokenizer: Any = SQLite.Tokenizer
_Parser: Any = SQLite.Parser
_Generator: Any = SQLite.Generator
_OTHERWISE_NAMED = ("IFNULL", "SUBSTR", "SUBSTRING")


class SqliteAsWritten(SQLite):
    """SQLite's SQL with $1 for parameters, in which functions keep their names."""

    class Tokenizer(_Tokenizer):  # type: ignore[misc]
        """Parameters as we number them."""

        SINGLE_TOKENS = {**_Tokenizer.SINGLE_TOKENS, "$": TokenType.PARAMETER}  # noqa: RUF012

    class Parser(_Parser):  # type: ignore[misc]
        """No trees for functions that would come back under another name."""

        FUNCTIONS = {  # noqa: RUF012 - as the parser's own class has it
            name: build for name, build in _Parser.FUNCTIONS.items() if name not in _OTHERWISE_NAMED
        }

    class Generator(_Generator):  # type: ignore[misc]
        """And written the same way."""

        PARAMETER_TOKEN = "$"


NAME = "sqliteaswritten"
