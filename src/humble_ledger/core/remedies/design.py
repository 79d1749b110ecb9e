"""The design of an index that might be built, and the statements that build and remove it."""

from __future__ import annotations

from dataclasses import dataclass, field

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.schema.beginnings import beginning_of
from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.core.schema.quoting import identifier, table_identifier


@dataclass(frozen=True, slots=True)
class IndexDesign:
    """An index that might be built.

    On a partitioned table it is one index on each of the ``parts``; None when these are parted
    again.
    """

    table: TableName
    keys: tuple[IndexKey, ...]
    included: tuple[str, ...] = ()
    predicate: str = ""
    method: str = IndexMethod.SORTED
    parts: tuple[TableName, ...] | None = field(default=(), compare=False)
    _hash: int = field(default=0, init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        """Reckon the hash once: a choice looks designs up some million times."""
        parts = (self.table, self.keys, self.included, self.predicate, self.method)
        object.__setattr__(self, "_hash", hash(parts))

    def __hash__(self) -> int:
        """The same for equal designs."""
        return self._hash

    @property
    def key_columns(self) -> tuple[str, ...]:
        """The columns of the keys, "" for an expression."""
        return tuple(key.column for key in self.keys)

    @property
    def words(self) -> str:
        """The index as people write it: "reading (sensor_id, taken_at)"."""
        return f"{table_identifier(self.table)} {self.body}"

    @property
    def body(self) -> str:
        """The part of the statement behind the table: method, keys, included, predicate."""
        return self.body_in(STANDARD)

    def body_in(self, dialect: Dialect) -> str:
        """The same as one server writes it."""
        method = "" if self.method == IndexMethod.SORTED else f"USING {self.method} "
        keys = ", ".join(_key(key, dialect) for key in self.keys)
        included = ", ".join(identifier(name, dialect.quoting) for name in self.included)
        return (
            f"{method}({keys})"
            + (f" INCLUDE ({included})" if included else "")
            + (f" WHERE {self.predicate}" if self.predicate else "")
        )

    @property
    def can_be_built_online(self) -> bool:
        """Whether one statement builds it while others write: not on a partitioned table."""
        return self.parts == ()

    def waits_for_expression(self, dialect: Dialect) -> bool:
        """Whether writers wait while it is built because it is on an expression."""
        computed = any(not key.column and beginning_of(key) is None for key in self.keys)
        return computed and bool(dialect.expression_behind)

    def create_sql(self, name: str, dialect: Dialect = STANDARD, *, online: bool = False) -> str:
        """The statement that builds it under this name; ``online`` while others write."""
        word, behind = self._online(dialect, online)
        table = table_identifier(self.table, dialect.quoting)
        shown = identifier(name, dialect.quoting)
        return f"CREATE INDEX{word} {shown} ON {table} {self.body_in(dialect)}{behind}"

    def drop_sql(
        self,
        name: str,
        dialect: Dialect = STANDARD,
        *,
        online: bool = False,
        if_exists: bool = False,
    ) -> str:
        """The statement that removes it again."""
        online = online and self.can_be_built_online
        return drop_index_sql(self.table, name, dialect, online=online, if_exists=if_exists)

    def _online(self, dialect: Dialect, online: bool) -> tuple[str, str]:
        if not online or not self.can_be_built_online:
            return "", ""
        if self.waits_for_expression(dialect):
            return "", f" {dialect.expression_behind}"
        word = f" {dialect.online}" if dialect.online else ""
        return word, f" {dialect.online_behind}" if dialect.online_behind else ""


def drop_index_sql(
    table: TableName,
    name: str,
    dialect: Dialect,
    *,
    online: bool = False,
    if_exists: bool = False,
) -> str:
    """The statement that removes an index of a table; ``online`` while others read and write."""
    quoting = dialect.quoting
    if online and dialect.online_drop:
        return dialect.online_drop.format(
            table=table_identifier(table, quoting), name=identifier(name, quoting)
        )
    word = f" {dialect.online}" if online and dialect.online else ""
    word += " IF EXISTS" if if_exists and not dialect.index_of_table else ""
    return f"DROP INDEX{word} {index_place(table, name, dialect)}"


def index_place(table: TableName, name: str, dialect: Dialect) -> str:
    """An index as a statement names it that removes it."""
    if dialect.index_of_table:
        shown = table_identifier(table, dialect.quoting)
        return f"{identifier(name, dialect.quoting)} ON {shown}"
    return table_identifier(TableName(table.schema, name), dialect.quoting)


def _key(key: IndexKey, dialect: Dialect) -> str:
    first = beginning_of(key) if dialect.beginning else None
    if first is not None:
        shown = identifier(first.column, dialect.quoting)
        text = dialect.beginning.format(column=shown, length=first.length)
    elif key.column:
        text = identifier(key.column, dialect.quoting)
    else:
        text = dialect.key_expression(key.expression)
    if key.collation:
        text += f" COLLATE {identifier(key.collation, dialect.quoting)}"
    if key.operator_class:
        text += f" {identifier(key.operator_class)}"
    if key.descending:
        text += " DESC"
    if (
        not dialect.nulls_lowest and key.nulls_first != key.descending
    ):  # the server's default differs by direction
        text += " NULLS FIRST" if key.nulls_first else " NULLS LAST"
    return text
