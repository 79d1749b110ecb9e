"""What the schema of a file says: tables, their columns, keys and indexes; nothing of sizes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import apsw

from humble_ledger.core.schema.facts import ForeignKey, IndexKey, TableName
from humble_ledger.core.statements.tokens import TokenKind, tokens
from humble_ledger.engines.sqlite.asking import rows

ROWID = "rowid"  # what leads to a row of an ordinary table, by the name that plans have for it


@dataclass(frozen=True, slots=True)
class Column:
    """One column; ``type_name`` as declared, ``collation`` in small letters."""

    name: str
    type_name: str
    not_null: bool
    key_place: int
    hidden: bool
    collation: str = "binary"

    @property
    def affinity(self) -> str:
        """How values are converted on their way in: the five rules of the manual, section 3.1."""
        return affinity_of(self.type_name)


@dataclass(frozen=True, slots=True)
class Index:
    """One index; ``origin`` is c (made by a statement), u or pk."""

    name: str
    keys: tuple[IndexKey, ...]
    unique: bool
    origin: str
    predicate: str
    sql: str


@dataclass(frozen=True, slots=True)
class Table:
    """One table or view with what hangs on it; ``kind`` is table, view or virtual.

    ``by_rowid`` tells that its rows lie in the order of a hidden number, of which
    ``rowid_column`` is another name ("": none). ``triggers`` are the statements that made them.
    """

    name: str
    kind: str
    sql: str
    columns: tuple[Column, ...]
    indexes: tuple[Index, ...]
    foreign_keys: tuple[ForeignKey, ...]
    by_rowid: bool
    rowid_column: str = ""
    triggers: tuple[str, ...] = ()

    def column(self, name: str) -> Column | None:
        """The column of this name, whatever its letters' case."""
        wanted = name.lower()
        return next((each for each in self.columns if each.name.lower() == wanted), None)


Schema = dict[str, Table]


def read_schema(connection: apsw.Connection) -> Schema:
    """All tables and views of the main database by name, the library's own left out."""
    listed = rows(
        connection,
        "SELECT name, type, wr FROM pragma_table_list WHERE schema = 'main' "
        "AND type IN ('table', 'view', 'virtual', 'shadow') AND name NOT LIKE 'sqlite\\_%' "
        "ESCAPE '\\' ORDER BY name",
    )
    texts = {
        str(name): str(sql or "")
        for name, sql in rows(connection, "SELECT name, sql FROM sqlite_schema")
    }
    found = {}
    for name, type_, without_rowid in listed:
        found[str(name)] = _table(connection, str(name), str(type_), bool(without_rowid), texts)
    return found


def affinity_of(type_name: str) -> str:
    """INTEGER, TEXT, BLOB, REAL or NUMERIC, from a declared type."""
    name = type_name.upper()
    if "INT" in name:
        return "INTEGER"
    if any(part in name for part in ("CHAR", "CLOB", "TEXT")):
        return "TEXT"
    if "BLOB" in name or not name.strip():
        return "BLOB"
    if any(part in name for part in ("REAL", "FLOA", "DOUB")):
        return "REAL"
    return "NUMERIC"


def table_name(name: str) -> TableName:
    """A table as plans and facts name it: there is but one schema, which goes without saying."""
    return TableName("", name)


def _table(
    connection: apsw.Connection,
    name: str,
    type_: str,
    without_rowid: bool,
    texts: dict[str, str],
) -> Table:
    kind = "table" if type_ == "shadow" else type_
    fields = rows(connection, "SELECT * FROM pragma_table_xinfo(?)", (name,))
    columns = [
        Column(str(r[1]), str(r[2] or ""), bool(r[3]), int(r[5]), bool(r[6] == 1)) for r in fields
    ]
    if kind == "table":
        columns = [_with_collation(connection, name, each) for each in columns]
    keys = [each for each in columns if each.key_place]
    alias = ""
    if kind == "table" and not without_rowid and len(keys) == 1:
        alias = keys[0].name if keys[0].type_name.upper() == "INTEGER" else ""
    listed = rows(connection, "SELECT * FROM pragma_index_list(?)", (name,))
    indexes = [_index(connection, columns, str(r[1]), bool(r[2]), str(r[3]), texts) for r in listed]
    return Table(
        name,
        kind,
        texts.get(name, ""),
        tuple(columns),
        tuple(indexes),
        tuple(_foreign_keys(connection, name, keys)),
        kind == "table" and not without_rowid,
        alias,
        tuple(
            str(sql)
            for (sql,) in rows(
                connection,
                "SELECT sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? "
                "ORDER BY rowid",
                (name,),
            )
        ),
    )


def _with_collation(connection: apsw.Connection, table: str, column: Column) -> Column:
    try:
        found = connection.column_metadata("main", table, column.name)
    except apsw.Error:
        return column
    return Column(
        column.name, column.type_name, column.not_null, column.key_place, column.hidden,
        str(found[1] or "BINARY").lower(),
    )  # fmt: skip


def _index(
    connection: apsw.Connection,
    columns: Sequence[Column],
    name: str,
    unique: bool,
    origin: str,
    texts: dict[str, str],
) -> Index:
    listed = rows(connection, "SELECT * FROM pragma_index_xinfo(?)", (name,))
    sql = texts.get(name, "")
    expressions = iter(key_expressions(sql))
    by_name = {each.name: each for each in columns}
    keys = []
    for _, cid, column, descending, collation, is_key in listed:
        if not is_key:
            continue
        written = next(expressions, "")
        own = by_name.get(str(column)) if cid >= 0 else None
        by = str(collation or "BINARY").lower()
        keys.append(
            IndexKey(
                str(column) if cid >= 0 else "",
                f"({written})" if cid < 0 else "",
                bool(descending),
                bool(descending),
                "",
                "" if by == (own.collation if own else "binary") else by,
            )
        )
    return Index(name, tuple(keys), unique, origin, predicate_of(sql), sql)


def _foreign_keys(
    connection: apsw.Connection, name: str, own: Sequence[Column]
) -> list[ForeignKey]:
    listed = rows(connection, "SELECT * FROM pragma_foreign_key_list(?)", (name,))
    by_number: dict[int, list[tuple[object, ...]]] = {}
    for row in listed:
        by_number.setdefault(int(row[0]), []).append(row)
    found = []
    for number, parts in sorted(by_number.items()):
        parts.sort(key=lambda part: int(str(part[1])))
        found.append(
            ForeignKey(
                f"key {number + 1}",
                tuple(str(part[3]) for part in parts),
                table_name(str(parts[0][2])),
                tuple(str(part[4]) for part in parts)
                if parts[0][4]
                else _primary_key(connection, str(parts[0][2])),
                str(parts[0][6]).lower(),
            )
        )
    return found


def _primary_key(connection: apsw.Connection, table: str) -> tuple[str, ...]:
    """What a reference without columns refers to."""
    fields = rows(connection, "SELECT name, pk FROM pragma_table_xinfo(?) WHERE pk > 0", (table,))
    return tuple(str(name) for name, _ in sorted(fields, key=lambda field: int(field[1])))


_DIRECTION = re.compile(r"\s+(?:ASC|DESC)\s*$", re.IGNORECASE)
_CLOSES = {"[": "]", "`": "`"}  # names in other databases' quotes


def key_expressions(sql: str) -> tuple[str, ...]:
    """The keys of an index as its statement has them, without their direction."""
    return _parts(sql)[0]


def predicate_of(sql: str) -> str:
    """The condition of a partial index, as its statement has it; "" for a whole one."""
    return _parts(sql)[1]


@lru_cache(maxsize=2_048)
def _parts(sql: str) -> tuple[tuple[str, ...], str]:
    """(keys, condition) in the statement of an index, read behind ON and the table's name."""
    keys: list[str] = []
    part = closes = ""
    depth, on, behind = 0, False, False
    for token in tokens(sql):
        text = " " if token.kind is TokenKind.COMMENT else token.text
        named = bool(closes) or text in _CLOSES
        if text == closes:
            closes = ""
        elif not closes:
            closes = _CLOSES.get(text, "")
        if behind:
            if token.is_word("where") and not named:
                return tuple(keys), sql[token.end :].strip().rstrip(";")
        elif depth == 0:
            on = on or (token.is_word("on") and not named)
            depth = int(on and text == "(" and not named)
        else:
            if text in ("(", ")") and not named:
                depth += 1 if text == "(" else -1
            if depth and (text != "," or depth > 1 or named):
                part += text
                continue
            keys.append(_DIRECTION.sub("", part).strip())
            part, behind = "", depth == 0
    return tuple(keys), ""
