"""A hollow whose target has the same schema, and other rows in some of its tables.

Making one anew takes seconds, and rows are written to a target in use all the time. So the tables
that changed are given new ends, sizes and statistics, and the others are left as they are.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import replace

from psycopg import sql

from humble_ledger.engines.postgresql.connection import Connection
from humble_ledger.engines.postgresql.faults import translated
from humble_ledger.engines.postgresql.hollow.ends import insert_ends, lacks_of_tables
from humble_ledger.engines.postgresql.hollow.expression_statistics import write_expressions
from humble_ledger.engines.postgresql.hollow.heights import give_files
from humble_ledger.engines.postgresql.hollow.outline import Relation, quoted
from humble_ledger.engines.postgresql.hollow.source import Source
from humble_ledger.engines.postgresql.hollow.standing import Standing, heedless_owner
from humble_ledger.engines.postgresql.hollow.statistics import StatisticsWriter

# Statistics of a table tell of the tables that inherit from it, too.
_ABOVE_SQL = """
WITH RECURSIVE above AS (
    SELECT to_regclass(o.name)::oid AS oid FROM unnest(%s::text[]) AS o(name)
    UNION
    SELECT i.inhparent FROM above JOIN pg_inherits i ON i.inhrelid = above.oid
)
SELECT n.nspname, c.relname FROM above JOIN pg_class c USING (oid)
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind NOT IN ('i', 'I')
"""
# Two rows were all that was put into it, one after the other.
_FIRST_PAGES = 4
_FIRST_ROWS = [f"({page},{row})" for page in range(_FIRST_PAGES) for row in range(1, 5)]


def changed_tables(
    standing: Standing, before: Mapping[str, str], now: Mapping[str, str]
) -> set[tuple[str, str]]:
    """The tables whose ``contents`` are not what they were, and all that these inherit from."""
    changed = [name for name, seen in now.items() if before.get(name) != seen]
    rows = standing.admin.execute(_ABOVE_SQL, (changed,)).fetchall()
    return {(str(schema), str(name)) for schema, name in rows}


def refresh(standing: Standing, source: Source) -> list[str]:
    """Give the tables of ``source`` its ends, sizes and statistics; what could not be done.

    Raises:
        HumbleError, psycopg.Error: it can no longer be told what the hollow is like.
    """
    admin = standing.admin
    # What could not be made here is told where that was tried.
    there = [r for r in source.relations if _is_there(admin, r)]
    source = replace(source, relations=tuple(there))
    tables = [r for r in there if r.kind in "rm"]
    with (
        translated(),
        heedless_owner(standing.cluster, standing.database, standing.outline.path, admin) as loader,
    ):
        for table in tables:
            _emptied(standing, loader, table)
        failed = put_ends(loader, source)
    lost = _statistics(standing, source)
    give_files(standing.files, admin, source.relations, source.heights)
    return lacks_of_tables(failed, lost)


def put_ends(loader: Connection, source: Source) -> list[str]:
    """Insert the ends into tables that have no rows and all their indexes; what could not be done.

    ``loader`` is a heedless owner of the hollow.
    """
    tables = [r for r in source.relations if r.kind in "rm"]
    guarded = [table for table in tables if table.guarded]
    # New rows are not held against what the table shows its owner of itself.
    for table in guarded:
        _force(loader, table, "NO FORCE")
    failed = insert_ends(loader, source)
    for table in guarded:
        _force(loader, table, "FORCE")
    for table in tables:
        # A height stands in the first page, and what was read of it hides what is written.
        loader.execute(sql.SQL("REINDEX TABLE {}").format(_name(table)))
    return failed


def _emptied(standing: Standing, loader: Connection, table: Relation) -> None:
    """Give a table a new file with no row in it; of the old one only the beginning is read.

    By its owner: what a stranger's schema has happen with it acts with no rights.
    """
    if table.guarded:
        _force(loader, table, "NO FORCE")
    if table.kind == "r":
        loader.execute(
            sql.SQL("DELETE FROM ONLY {} WHERE ctid = ANY (%s::tid[])").format(_name(table)),
            (_FIRST_ROWS,),
        )
    now = standing.pages_now(table.schema, table.name)
    standing.files.resize(standing.place(table.schema, table.name), min(_FIRST_PAGES, now))
    loader.execute(sql.SQL("VACUUM FULL {}").format(_name(table)))


def _statistics(standing: Standing, source: Source) -> list[str]:
    admin = standing.admin
    names = [quoted(r.schema, r.name) for r in source.relations]
    admin.execute(
        "DELETE FROM pg_statistic WHERE starelid = ANY (%s::text[]::regclass[])", (names,)
    )
    admin.execute(
        "DELETE FROM pg_statistic_ext_data d USING pg_statistic_ext e "
        "WHERE e.oid = d.stxoid AND e.stxrelid = ANY (%s::text[]::regclass[])",
        (names,),
    )
    writer = StatisticsWriter(admin)
    writer.sizes(source.relations)
    lost = writer.columns(source)
    lost += writer.extended(source.extended, admin.info.server_version)
    with contextlib.closing(standing.owner()) as builder:
        return lost + write_expressions(builder, admin, source.expressions)


def _force(loader: Connection, table: Relation, force: str) -> None:
    text = sql.SQL("ALTER TABLE {} {} ROW LEVEL SECURITY").format(_name(table), sql.SQL(force))
    loader.execute(text)


def _is_there(admin: Connection, relation: Relation) -> bool:
    row = admin.execute(
        "SELECT to_regclass(%s) IS NOT NULL", (quoted(relation.schema, relation.name),)
    ).fetchone()
    return row == (True,)


def _name(relation: Relation) -> sql.Identifier:
    return sql.Identifier(relation.schema, relation.name)
