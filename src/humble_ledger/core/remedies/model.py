"""A remedy is data: it can be shown, predicted, tried, settled and undone."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from humble_ledger.core.schema.facts import IndexKey, TableName
from humble_ledger.core.schema.quoting import fitting_name, identifier, table_identifier


class RemedyType(StrEnum):
    """The kinds of change."""

    INDEX = "index"
    STATISTICS = "statistics"
    REWRITE = "rewrite"
    SETTING = "setting"
    REMOVAL = "removal"  # of an index


@dataclass(frozen=True, slots=True)
class IndexDesign:
    """An index that might be built."""

    table: TableName
    keys: tuple[IndexKey, ...]
    included: tuple[str, ...] = ()
    predicate: str = ""
    method: str = "btree"

    @property
    def key_columns(self) -> tuple[str, ...]:
        """The columns of the keys, "" for an expression."""
        return tuple(key.column for key in self.keys)

    @property
    def words(self) -> str:
        """The index as people write it: «reading (sensor_id, taken_at)»."""
        return f"{table_identifier(self.table)} {self.body}"

    @property
    def body(self) -> str:
        """The part of the statement behind the table: method, keys, included, predicate."""
        method = "" if self.method == "btree" else f"USING {self.method} "
        keys = ", ".join(_key(key) for key in self.keys)
        included = ", ".join(identifier(name) for name in self.included)
        return (
            f"{method}({keys})"
            + (f" INCLUDE ({included})" if included else "")
            + (f" WHERE {self.predicate}" if self.predicate else "")
        )

    def name(self) -> str:
        """A name by the server's own habit: table, columns, «idx»."""
        parts = [key.column or "expr" for key in self.keys]
        return fitting_name("_".join([self.table.name, *parts])[:59] + "_idx")

    def create_sql(self, name: str, *, concurrently: bool = False) -> str:
        """The statement that builds it under this name."""
        online = " CONCURRENTLY" if concurrently else ""
        table = table_identifier(self.table)
        return f"CREATE INDEX{online} {identifier(name)} ON {table} {self.body}"

    def drop_sql(self, name: str, *, concurrently: bool = False) -> str:
        """The statement that removes it again."""
        online = " CONCURRENTLY" if concurrently else ""
        return f"DROP INDEX{online} {table_identifier(TableName(self.table.schema, name))}"


def _key(key: IndexKey) -> str:
    text = identifier(key.column) if key.column else key.expression
    if key.descending:
        text += " DESC"
    if key.nulls_first != key.descending:  # the server's default differs by direction
        text += " NULLS FIRST" if key.nulls_first else " NULLS LAST"
    return text


@dataclass(frozen=True, slots=True)
class Prediction:
    """What a remedy should do to one query: the server's cost before, and predicted after.

    ``way`` is how it was predicted (formula, hollow); ``step`` names what would be replaced,
    ``route`` what would come instead, ``caution`` what may make it wrong.
    """

    query: str
    cost_before: float
    cost_predicted: float
    way: str
    step: str = ""
    route: str = ""
    caution: str = ""

    @property
    def gain(self) -> float:
        """How many times cheaper."""
        return self.cost_before / max(self.cost_predicted, 0.01)


@dataclass(frozen=True, slots=True)
class Upkeep:
    """What a remedy costs writers, from the table's own counters since their reset."""

    inserted_rows: int = 0
    updated_rows: int = 0
    in_page_share: float | None = None


@dataclass(frozen=True, slots=True)
class Remedy:
    """One change that could help.

    ``apply`` and ``revert`` are SQL, each runnable as it stands; ``index`` is set for the
    type index; ``size_bytes_predicted`` is the room it should take (less than nothing when it
    gives some back). ``cures`` names the symptoms it is for, in the ``queries`` it came up for;
    ``settings`` are names with values.
    """

    type: RemedyType
    summary: str
    apply: tuple[str, ...]
    revert: tuple[str, ...]
    reason: str = ""
    index: IndexDesign | None = None
    index_name: str = ""
    predictions: tuple[Prediction, ...] = ()
    size_bytes_predicted: int | None = None
    upkeep: Upkeep = field(default=Upkeep())
    cures: tuple[str, ...] = ()
    queries: tuple[str, ...] = ()
    settings: tuple[tuple[str, str], ...] = ()


def index_remedy(
    design: IndexDesign,
    *,
    reason: str,
    predictions: tuple[Prediction, ...] = (),
    size_bytes: int | None = None,
    upkeep: Upkeep | None = None,
) -> Remedy:
    """The remedy «build this index»."""
    name = design.name()
    return Remedy(
        type=RemedyType.INDEX,
        summary=f"index on {design.words}",
        apply=(design.create_sql(name) + ";",),
        revert=(design.drop_sql(name) + ";",),
        reason=reason,
        index=design,
        index_name=name,
        predictions=predictions,
        size_bytes_predicted=size_bytes,
        upkeep=upkeep or Upkeep(),
    )
