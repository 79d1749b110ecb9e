"""The design of an index that might be built, and the statements that build and remove it."""

from __future__ import annotations

from dataclasses import dataclass, field

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
        method = "" if self.method == IndexMethod.SORTED else f"USING {self.method} "
        keys = ", ".join(_key(key) for key in self.keys)
        included = ", ".join(identifier(name) for name in self.included)
        return (
            f"{method}({keys})"
            + (f" INCLUDE ({included})" if included else "")
            + (f" WHERE {self.predicate}" if self.predicate else "")
        )

    @property
    def can_be_built_online(self) -> bool:
        """Whether one statement builds it while others write: not on a partitioned table."""
        return self.parts == ()

    def create_sql(self, name: str, online: str = "") -> str:
        """The statement that builds it under this name; ``online`` is the word for doing so while
        others write.
        """
        online = f" {online}" if online and self.can_be_built_online else ""
        table = table_identifier(self.table)
        return f"CREATE INDEX{online} {identifier(name)} ON {table} {self.body}"

    def drop_sql(self, name: str, online: str = "", *, if_exists: bool = False) -> str:
        """The statement that removes it again."""
        online = f" {online}" if online and self.can_be_built_online else ""
        online += " IF EXISTS" if if_exists else ""
        return f"DROP INDEX{online} {table_identifier(TableName(self.table.schema, name))}"


def _key(key: IndexKey) -> str:
    text = identifier(key.column) if key.column else key.expression
    if key.collation:
        text += f" COLLATE {identifier(key.collation)}"
    if key.operator_class:
        text += f" {identifier(key.operator_class)}"
    if key.descending:
        text += " DESC"
    if key.nulls_first != key.descending:  # the server's default differs by direction
        text += " NULLS FIRST" if key.nulls_first else " NULLS LAST"
    return text
