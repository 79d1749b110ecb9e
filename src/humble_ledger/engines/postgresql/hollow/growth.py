"""Tables of a hollow that are supposed to have grown."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from psycopg import sql

from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.postgresql.hollow.files import RelationFiles
from humble_ledger.engines.postgresql.hollow.heights import levels_of
from humble_ledger.engines.postgresql.hollow.history import History
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.standing import Standing
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter
from humble_ledger.engines.postgresql.hollow.supposed_indexes import SupposedIndexes

NEARLY_UNIQUE = 0.95  # of the rows have a value of their own: a key, which grows with them


@dataclass(slots=True)
class Growth:
    """How many times its rows each table has now; those that are not named have their own."""

    _standing: Standing
    _indexes: SupposedIndexes
    _factors: dict[TableName, float] = field(default_factory=dict)
    _longer: bool = False
    _stretched: History | None = None
    _heights: dict[tuple[str, str], int] = field(default_factory=dict)

    def become(self, rows: Mapping[TableName, float], *, longer: bool) -> None:
        """Let the tables have so many times their rows, with a ``longer`` history or none."""
        if longer != self._longer:
            self._longer = longer
            self.undo(self._factors.keys())
        for table in {*rows, *self._factors}:
            if rows.get(table, 1.0) != self._factors.get(table, 1.0):
                self._grow(table, rows.get(table, 1.0), rows.keys())

    def undo(self, tables: Collection[TableName]) -> None:
        """Give these tables their own rows again, as far as they have others."""
        for table in list(self._factors):
            if table in tables:
                self._grow(table, 1.0)

    def undo_all(self) -> None:
        """Give all tables their own rows again."""
        self.undo(self._factors.keys())

    def _grow(self, table: TableName, factor: float, together: Collection[TableName] = ()) -> None:
        """Give a table, and its indexes, so many times its rows and its size.

        A column that refers to a table which does not grow ``together`` with it keeps as many
        different values as it has.

        Its indexes are built anew over next to nothing: a b-tree's height stands in its first
        page, and what the server has read of that hides what is written to the file.
        """
        files = self._standing.files
        heaps = self._standing.heaps(table)
        if table not in self._factors:
            self._remember_heights(heaps)
        for heap in heaps:
            files.resize(self._standing.place(heap.schema, heap.name), min(1, heap.pages))
        sized = []
        try:
            with contextlib.closing(self._standing.owner()) as builder:
                for heap in heaps:
                    name = sql.Identifier(heap.schema, heap.name)
                    builder.execute(sql.SQL("REINDEX TABLE {}").format(name))
        finally:
            for heap in heaps:
                grown = _times(heap, factor)
                files.resize(self._standing.place(heap.schema, heap.name), grown.pages)
                sized.append(grown)
        root = self._standing.relations.get((table.schema, table.name))
        whole = [*heaps, *([root] if root is not None else [])]
        self._keep_distinct(whole, self._factors.get(table, 1.0) / factor, together)
        self._history().stretch(whole, factor if self._longer else 1.0)
        self._factors[table] = factor
        of = {(heap.schema, heap.name) for heap in heaps}
        for index in self._standing.outline.relations:
            if index.kind == "i" and index.table in of and index.pages:
                own = self._heights.get((index.schema, index.name)) if factor == 1.0 else None
                sized.append(self._index_grown(files, _times(index, factor), own))
        sized += [self._index_grown(files, _times(i, factor)) for i in self._indexes.of(table)]
        if root is not None and root.kind == "p":
            sized.append(_times(root, factor))
        StatisticsWriter(self._standing.admin).sizes(sized)
        self._indexes.hide_again()
        if factor == 1.0:
            del self._factors[table]

    def _history(self) -> History:
        if self._stretched is None:
            self._stretched = History(self._standing.admin)
        return self._stretched

    def _keep_distinct(
        self, relations: Sequence[Relation], ratio: float, together: Collection[TableName]
    ) -> None:
        """Statistics tell many values as a share of the rows, which would grow with them."""
        names = [sql.Identifier(r.schema, r.name).as_string(None) for r in relations]
        others = [sql.Identifier(t.schema, t.name).as_string(None) for t in together]
        self._standing.admin.execute(
            "UPDATE pg_statistic s SET stadistinct = s.stadistinct * %s FROM pg_constraint k "
            "WHERE k.contype = 'f' AND k.conrelid = s.starelid AND s.staattnum = k.conkey[1] "
            "AND array_length(k.conkey, 1) = 1 AND s.stadistinct < 0 AND s.stadistinct > %s "
            "AND s.starelid = ANY (%s::text[]::regclass[]) "
            "AND k.confrelid <> ALL (%s::text[]::regclass[])",
            (ratio, -NEARLY_UNIQUE, names, others),
        )

    def _remember_heights(self, heaps: Sequence[Relation]) -> None:
        """Those of the target's indexes, as they stand in their files."""
        of = {(heap.schema, heap.name) for heap in heaps}
        for index in self._standing.outline.relations:
            if index.kind == "i" and index.table in of and index.method == "btree":
                place = self._standing.place(index.schema, index.name)
                if not place:
                    continue
                self._heights[index.schema, index.name] = self._standing.files.height(place)

    def _index_grown(
        self, files: RelationFiles, index: Relation, known: int | None = None
    ) -> Relation:
        place = self._standing.place(index.schema, index.name)
        if index.method == "btree":
            levels = levels_of(self._standing.admin, index) if known is None else known
            files.grow_b_tree(place, index.pages, levels)
        else:
            files.resize(
                place, max(index.pages, self._standing.pages_now(index.schema, index.name))
            )
        return index


def _times(relation: Relation, factor: float) -> Relation:
    """A relation with so many times its rows and pages, as full as it is."""
    return replace(
        relation,
        pages=max(min(1, relation.pages), round(relation.pages * factor)),
        catalogue_pages=round(relation.catalogue_pages * factor),
        rows=relation.rows * factor if relation.rows > 0 else relation.rows,
        all_visible=round(relation.all_visible * factor),
    )
