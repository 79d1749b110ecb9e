"""Names and conditions as this family writes them, for statements of ours."""

from __future__ import annotations

import re

from humble_ledger.core.schema.facts import TableName
from humble_ledger.errors import StatementRejected

_TOKEN = re.compile(
    r"""(?P<unit>\b(?:timestampdiff|timestampadd)\('\w+')
    |(?P<string>'(?:[^']|'')*')|(?P<quoted>"(?:[^"]|"")*")
    |(?P<distinct>\bIS\s+NOT\s+DISTINCT\s+FROM\b)|(?P<plan>\(?(?:hashed\s)?(?:Sub|Init)Plan\s\d+)
    |(?P<matches>(?<=\s)~(?=\s))""",
    re.VERBOSE | re.IGNORECASE,
)


def quoted(name: str) -> str:
    """A name in quotes."""
    return "`" + name.replace("`", "``") + "`"


def place(table: TableName) -> str:
    """A table in quotes, with its database where it is another one."""
    if table.schema:
        return f"{quoted(table.schema)}.{quoted(table.name)}"
    return quoted(table.name)


def condition(text: str) -> str:
    """A condition in the core's notation as this family writes it.

    Raises:
        StatementRejected: it has the value of a sub-query, which cannot be asked for alone.
    """

    def change(found: re.Match[str]) -> str:
        if found["unit"] is not None:
            return found[0].replace("'", "")
        if found["string"] is not None:
            return found[0].replace("\\", "\\\\")
        if found["quoted"] is not None:
            return quoted(found[0][1:-1].replace('""', '"'))
        if found["distinct"] is not None:
            return "<=>"
        if found["plan"] is not None:
            raise StatementRejected("The condition has the value of a sub-query.")
        return "REGEXP"

    return _TOKEN.sub(change, text)
