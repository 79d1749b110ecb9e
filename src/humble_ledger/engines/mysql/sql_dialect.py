"""The parser's reading of this family's SQL, with ``$1`` for parameters."""

from __future__ import annotations

from typing import Any

from sqlglot.dialects.mysql import MySQL
from sqlglot.tokenizer_core import TokenType

_Tokenizer: Any = MySQL.Tokenizer
_Parser: Any = MySQL.Parser
_Generator: Any = MySQL.Generator
_KEPT = frozenset("IFNULL SUBSTR SUBSTRING DATE_FORMAT STR_TO_DATE YEAR MONTH DAY DATE".split())

NAME = "mysqlaswritten"


class MysqlAsWritten(MySQL):
    """The family's SQL, in which functions keep their names."""

    class Tokenizer(_Tokenizer):  # type: ignore[misc]
        """Parameters as we number them."""

        SINGLE_TOKENS = {**_Tokenizer.SINGLE_TOKENS, "$": TokenType.PARAMETER}  # noqa: RUF012

    class Parser(_Parser):  # type: ignore[misc]
        """No trees for functions that would come back under another name."""

        FUNCTIONS = {  # noqa: RUF012 - as the parser's own class has it
            name: build for name, build in _Parser.FUNCTIONS.items() if name not in _KEPT
        }

    class Generator(_Generator):  # type: ignore[misc]
        """And written the same way."""

        PARAMETER_TOKEN = "$"
