"""What the statement calls things, in the notation of plans: columns, expressions, orders."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from sqlglot import exp

from humble_ledger.engines.sqlite.plans.blocks import Block, Reading
from humble_ledger.engines.sqlite.plans.notation import noted
from humble_ledger.engines.sqlite.schema import Table
from humble_ledger.engines.sqlite.sql_dialect import NAME


@dataclass(frozen=True, slots=True)
class Names:
    """The names of one statement; of one that could not be parsed there are none."""

    reading: Reading | None

    def table_of(self, alias: str) -> str | None:
        """The table that an alias stands for; None for a query."""
        if self.reading is None:
            return alias
        for block in self.reading.blocks:
            source = block.sources.get(alias)
            if isinstance(source, Table):
                return source.name
        return None

    def columns(self, alias: str) -> list[str]:
        """The columns of a source that the statement names, each with the source's name."""
        if self.reading is None:
            return []
        found: dict[str, None] = {}
        for block in self.reading.blocks:
            for column in block.tree.find_all(exp.Column):
                if isinstance(column.this, exp.Star):
                    if not column.table or column.table.lower() == alias.lower():
                        found |= self._all_of(alias, block)
                    continue
                resolved = self.resolved(column, block)
                for each in resolved.find_all(exp.Column):
                    if each.table == alias:
                        found[_column_words(each)] = None
            select = block.select
            if select is not None and any(isinstance(e, exp.Star) for e in select.expressions):
                found |= self._all_of(alias, block)
        return list(found)

    def _all_of(self, alias: str, block: Block) -> dict[str, None]:
        source = block.sources.get(alias)
        if not isinstance(source, Table):
            return {}
        columns = [exp.column(c.name, table=alias) for c in source.columns if not c.hidden]
        return {_column_words(each): None for each in columns}

    def resolved(self, part: exp.Expr, block: Block | None) -> exp.Expr:
        """A part of the statement with each column named by its table."""
        if self.reading is None or block is None:
            return part
        return self.reading.resolve(part, block).unnest()

    def listed(self, parts: Iterable[exp.Expr], block: Block | None) -> list[str]:
        """Expressions in the core's notation; a number stands for what is put out there."""
        select = block.select if block is not None else None
        found = []
        for each in parts:
            bare = each.this if isinstance(each, exp.Alias) else each
            if isinstance(bare, exp.Literal) and bare.is_int and select is not None:
                place = int(bare.name) - 1
                if 0 <= place < len(select.expressions):
                    given = select.expressions[place]
                    bare = given.this if isinstance(given, exp.Alias) else given
            elif isinstance(bare, exp.Column) and not bare.table and select is not None:
                bare = _behind_name(select, bare)
            found.append(noted(self.resolved(bare, block))[1:-1])
        return found

    def order(self, order: exp.Expr, block: Block) -> list[str]:
        """The keys of an ORDER BY."""
        found = []
        for each in order.expressions:
            words = self.listed([each.this], block)[0]
            found.append(words + (" DESC" if each.args.get("desc") else ""))
        return found


def _behind_name(select: exp.Select, column: exp.Column) -> exp.Expr:
    """What is put out under a name that stands in ORDER BY or GROUP BY."""
    for each in select.expressions:
        if isinstance(each, exp.Alias) and each.alias.lower() == column.name.lower():
            given: exp.Expr = each.this
            return given
    return column


def _column_words(column: exp.Column) -> str:
    return column.sql(dialect=NAME)
