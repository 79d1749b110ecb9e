"""What a remedy does, as data; `rendering` and `migration` have it in a server's own words."""

from __future__ import annotations

from msgspec import Struct

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import TableName


class CreateIndex(Struct, frozen=True, tag="create-index"):
    """Build an index."""

    design: IndexDesign
    name: str


class DropIndex(Struct, frozen=True, tag="drop-index"):
    """Remove an index; ``definition`` is the statement that builds it again.

    A trial hides it where it can, and so drops nothing.
    """

    table: TableName
    name: str
    definition: str

    @property
    def place(self) -> tuple[str, str]:
        """Its schema and name."""
        return self.table.schema, self.name


class Analyze(Struct, frozen=True, tag="analyze"):
    """Gather the statistics of a table anew; None: of every one that the server finds in need."""

    table: TableName | None = None


class CreateStatistics(Struct, frozen=True, tag="create-statistics"):
    """Gather statistics of several columns together, or of an ``expression`` of some."""

    table: TableName
    name: str
    columns: tuple[str, ...] = ()
    expression: str = ""


class SetStatisticsTarget(Struct, frozen=True, tag="set-statistics-target"):
    """Let the statistics of a column list more values; ``before`` None is the server's usual."""

    table: TableName
    column: str
    values: int
    before: int | None = None


class SetSettings(Struct, frozen=True, tag="set-settings"):
    """Give settings other values, for one session or role."""

    settings: tuple[tuple[str, str], ...]


class RewriteStatement(Struct, frozen=True, tag="rewrite-statement"):
    """Send another text; both without a semicolon.

    ``values_from`` is a statement whose one row gives the parameters of the new one; ``beside`` is
    an index that it takes, and without which it gains little.
    """

    old: str
    new: str
    values_from: str = ""
    beside: IndexDesign | None = None


class Custom(Struct, frozen=True, tag="custom"):
    """Any statements with those that undo them, without semicolons.

    A user's, or an engine's where ``of_statistics``.
    """

    forward: tuple[str, ...]
    backward: tuple[str, ...]
    of_statistics: bool = False


Operation = (
    CreateIndex
    | DropIndex
    | Analyze
    | CreateStatistics
    | SetStatisticsTarget
    | SetSettings
    | RewriteStatement
    | Custom
)
