"""Indexes that are supposed to be in a hollow, or to be gone from it."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from psycopg import sql

from humble_ledger.core.costs.model import IndexShape
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.remedies.naming import index_name
from humble_ledger.core.schema.facts import TableName
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.engines.postgresql.hollow.expressions import Sampler
from humble_ledger.engines.postgresql.hollow.files import RelationFiles
from humble_ledger.engines.postgresql.hollow.outline import Relation
from humble_ledger.engines.postgresql.hollow.standing import Standing
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter


@dataclass(slots=True)
class _Supposed:
    """An index that stands on the hollow because somebody asked what if."""

    oid: int
    name: str
    table: TableName
    files: tuple[Relation, ...]
    shown: bool = False


@dataclass(slots=True)
class SupposedIndexes:
    """Those that were built for a hollow so far; one explanation sees those that it names."""

    _standing: Standing
    _sampler: Sampler
    _supposed: dict[tuple[IndexDesign, IndexShape], _Supposed] = field(default_factory=dict)
    _hidden: frozenset[TableName] = frozenset()
    guessed: set[IndexDesign] = field(default_factory=set)  # of an expression nothing is known

    def lacking(self, designs: Mapping[IndexDesign, IndexShape]) -> set[TableName]:
        """The tables on which some of these are still to be built."""
        return {key[0].table for key in designs.items() if key not in self._supposed}

    def names(self, designs: Mapping[IndexDesign, IndexShape]) -> Mapping[str, IndexDesign]:
        """What those of these that stand are called."""
        found: dict[str, IndexDesign] = {}
        for design, shape in designs.items():
            supposed = self._supposed.get((design, shape))
            if supposed is not None:  # on a partitioned table, plans name those of its partitions
                found |= dict.fromkeys((supposed.name, *(f.name for f in supposed.files)), design)
        return found

    def forget(self, designs: Mapping[IndexDesign, IndexShape]) -> None:
        """Remove these."""
        self._drop([key for key in designs.items() if key in self._supposed])

    def forget_all(self) -> None:
        """Remove all."""
        self._drop(list(self._supposed))

    def of(self, table: TableName) -> list[Relation]:
        """The files of those that stand on a table."""
        return [f for each in self._supposed.values() if each.table == table for f in each.files]

    def hide_again(self) -> None:
        """Let the planner pass over what it should not see; built anew, an index is valid again."""
        hidden = [each.oid for each in self._supposed.values() if not each.shown]
        hidden += [self._standing.oid(name) for name in self._hidden]
        if hidden:
            self._standing.set_valid(hidden, valid=False)

    def _drop(self, keys: Sequence[tuple[IndexDesign, IndexShape]]) -> None:
        if not keys:
            return
        gone = [self._supposed.pop(key) for key in keys]
        names = [sql.Identifier(each.table.schema, each.name) for each in gone]
        with contextlib.closing(self._standing.owner()) as loader:
            loader.execute(sql.SQL("DROP INDEX {}").format(sql.SQL(", ").join(names)))

    def suppose(self, designs: Mapping[IndexDesign, IndexShape]) -> list[_Supposed]:
        """The supposed indexes, those of a table that are missing built together."""
        missing: dict[TableName, list[tuple[IndexDesign, IndexShape]]] = {}
        for key in designs.items():
            if key not in self._supposed:
                missing.setdefault(key[0].table, []).append(key)
        for table, wanted in missing.items():
            self._build(table, wanted)
        return [self._supposed[key] for key in designs.items()]

    def _build(self, table: TableName, wanted: Sequence[tuple[IndexDesign, IndexShape]]) -> None:
        """Build indexes over next to nothing, and give their files the wanted sizes.

        Raises:
            psycopg.Error: one of them cannot be built; those before it stand.
        """
        # As they would be called, so that plans read like the target's.
        taken = {key[1] for key in self._standing.relations} | {
            s.name for s in self._supposed.values()
        }
        files = self._standing.files
        heaps = self._standing.heaps(table)
        places = {heap: self._standing.place(heap.schema, heap.name) for heap in heaps}
        for heap, place in places.items():
            files.resize(place, min(1, heap.pages))
        built: list[tuple[str, IndexDesign, IndexShape]] = []
        try:
            # A new connection: one that has seen the table knows how long it was.
            with contextlib.closing(self._standing.owner()) as builder:
                path = f"{self._standing.outline.path}, public"  # which a design leaves out
                builder.execute("SELECT set_config('search_path', %s, false)", (path,))
                for design, shape in wanted:
                    name = index_name(design, taken=taken)
                    taken.add(name)
                    builder.execute(design.create_sql(name).encode())
                    built.append((name, design, shape))
        finally:
            for heap, place in places.items():
                files.resize(place, heap.pages)
            for name, design, shape in built:
                self._supposed[design, shape] = self._sized(files, name, design, shape, heaps)

    def _sized(
        self,
        files: RelationFiles,
        name: str,
        design: IndexDesign,
        shape: IndexShape,
        heaps: Sequence[Relation],
    ) -> _Supposed:
        writer = StatisticsWriter(self._standing.admin)
        made = self._standing.parts(design.table.schema, name, heaps)
        whole = sum(heap.rows for heap in heaps if heap.rows > 0) or 1.0
        sized = []
        for schema, part, heap in made:
            share = max(0.0, heap.rows) / whole if len(made) > 1 else 1.0
            pages = max(1, round(shape.pages * share))
            place = self._standing.place(schema, part)
            if design.method == IndexMethod.SORTED:
                # The ends of columns say nothing of the ends of what is computed from them: with
                # none to look up the planner goes by what it knows of the sampled values.
                computed = bool(design.keys[0].expression)
                files.grow_b_tree(place, pages, shape.levels, emptied=computed)
            else:
                files.resize(place, max(pages, self._standing.pages_now(schema, part)))
            entries = shape.entries * share
            method = "btree" if design.method == IndexMethod.SORTED else design.method
            sized.append(
                Relation(schema, part, "i", method, pages, pages, entries, 0, False, ("", ""))
            )
        self._know_expressions(writer, design, made)
        tables = [self._standing.relations[key] for key in {(h.schema, h.name) for h in heaps}]
        root = self._standing.relations.get((design.table.schema, design.table.name))
        writer.sizes([*sized, *tables, *([root] if root is not None else [])])
        oid = self._standing.oid(TableName(design.table.schema, name))
        found = _Supposed(oid, name, design.table, tuple(sized))
        self._standing.set_valid([found.oid], valid=False)
        return found

    def _know_expressions(
        self,
        writer: StatisticsWriter,
        design: IndexDesign,
        made: Sequence[tuple[str, str, Relation]],
    ) -> None:
        """Write down what ANALYZE would find of the expressions that an index is on."""
        if design.method == IndexMethod.ENCLOSING:
            return  # it keeps shapes around the values, which are of another type than these
        for number, key in enumerate(design.keys, start=1):
            for schema, part, heap in made if key.expression else ():
                found = self._sampler.statistics(heap, key.expression)
                if found is None:
                    self.guessed.add(design)
                row = self._standing.admin.execute(
                    "SELECT attname FROM pg_attribute WHERE attrelid = %s::regclass "
                    "AND attnum = %s",
                    (sql.Identifier(schema, part).as_string(None), number),
                ).fetchone()
                type_ = self._type_of(heap, key.expression) if found is not None else None
                if found is not None and row is not None and type_ is not None:
                    named = replace(found, schema=schema, table=part, column=str(row[0]))
                    writer.column(named, type_)

    def _type_of(self, heap: Relation, expression: str) -> int | None:
        """The type of an expression, of whose values an inverted index keeps the parts only.

        A planner that finds values of another type in the statistics crashes.
        """
        with contextlib.closing(self._standing.owner()) as asking:
            path = f"{self._standing.outline.path}, public"
            asking.execute("SELECT set_config('search_path', %s, false)", (path,))
            place = sql.Identifier(heap.schema, heap.name).as_string(asking)
            # Told without being run: a materialized view without rows may not be asked.
            asking.pgconn.prepare(b"", f"SELECT {expression} FROM {place}".encode())  # noqa: S608
            told = asking.pgconn.describe_prepared(b"")
            return told.ftype(0) if told.nfields == 1 else None

    def show(self, wanted: Sequence[_Supposed]) -> None:
        """Let the planner see these supposed indexes, and no others."""
        names = {each.oid for each in wanted}
        on = [s for s in self._supposed.values() if s.oid in names and not s.shown]
        off = [s for s in self._supposed.values() if s.oid not in names and s.shown]
        for some, valid in ((on, True), (off, False)):
            if some:
                self._standing.set_valid([each.oid for each in some], valid=valid)
                for each in some:
                    each.shown = valid

    def hide(self, gone: frozenset[TableName]) -> None:
        """Let the planner pass over these indexes of the target, and over no others."""
        for names, valid in ((gone - self._hidden, False), (self._hidden - gone, True)):
            oids = [self._standing.oid(name) for name in names]
            if oids:
                self._standing.set_valid(oids, valid=valid)
        self._hidden = gone
