"""What statements of others may do on our connections: read, and nothing around it.

A captured text or a hostile schema must not open other files, load code or change how the
connection works. The library asks for each thing that a statement would do while it prepares it.
"""

from __future__ import annotations

import apsw

# Reading only these tells something and sets nothing; those with a value in brackets name a table.
_ASKING = frozenset(
    """table_list table_info table_xinfo index_list index_info index_xinfo foreign_key_list
    page_count page_size freelist_count encoding data_version schema_version user_version
    journal_mode auto_vacuum compile_options function_list collation_list module_list
    database_list application_id""".split()
)
_WITH_A_TABLE = frozenset(
    "table_list table_info table_xinfo index_list index_info index_xinfo foreign_key_list".split()
)
_NEVER = frozenset((apsw.SQLITE_ATTACH, apsw.SQLITE_DETACH))
_FORBIDDEN_CALLS = frozenset(("load_extension", "fts3_tokenizer", "readfile", "writefile", "edit"))
# Changes of rows may be planned: a connection that is opened for reading runs none of them.
_PLANNED = frozenset(
    (
        apsw.SQLITE_SELECT, apsw.SQLITE_READ, apsw.SQLITE_RECURSIVE, apsw.SQLITE_FUNCTION,
        apsw.SQLITE_INSERT, apsw.SQLITE_UPDATE, apsw.SQLITE_DELETE,
    )
)  # fmt: skip


class Guard:
    """Asked by the library while it prepares a statement; ``ours`` while it is one of our own."""

    def __init__(self, *, writes: bool = False) -> None:
        self.writes = writes
        self.ours = False

    def __call__(
        self, action: int, one: str | None, two: str | None, _db: str | None, _by: str | None
    ) -> int:
        """SQLITE_OK, or SQLITE_DENY."""
        if action in _NEVER:
            return apsw.SQLITE_DENY
        if action == apsw.SQLITE_FUNCTION and (two or "").lower() in _FORBIDDEN_CALLS:
            return apsw.SQLITE_DENY
        if action == apsw.SQLITE_PRAGMA and not self.ours:
            name = (one or "").lower()
            asks = name in _ASKING and (two is None or name in _WITH_A_TABLE)
            gathers = self.writes and name == "optimize"  # a remedy, on a copy or when applied
            return apsw.SQLITE_OK if asks or gathers else apsw.SQLITE_DENY
        if action in _PLANNED or self.ours or self.writes:
            return apsw.SQLITE_OK
        return apsw.SQLITE_OK if action == apsw.SQLITE_PRAGMA else apsw.SQLITE_DENY


def harden(connection: apsw.Connection) -> None:
    """Trust nothing that the schema brings along."""
    connection.config(apsw.SQLITE_DBCONFIG_DEFENSIVE, 1)
    connection.config(apsw.SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0)
    connection.config(apsw.SQLITE_DBCONFIG_ENABLE_LOAD_EXTENSION, 0)
    connection.enable_load_extension(False)
