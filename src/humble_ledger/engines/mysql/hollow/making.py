"""Making a copy: its schema, on a server that may have one from an earlier command."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from humble_ledger.engines.contract import Limits
from humble_ledger.engines.mysql.hollow.asking import SUPPOSED, MysqlHollow
from humble_ledger.engines.mysql.hollow.filling import prepare
from humble_ledger.engines.mysql.hollow.house import House, house_for
from humble_ledger.engines.mysql.hollow.kept import KeptTable, looking_closely
from humble_ledger.engines.mysql.hollow.source import others_of, tables_of
from humble_ledger.engines.mysql.hollow.warming import Warmth
from humble_ledger.engines.mysql.naming import quoted
from humble_ledger.engines.mysql.session import MysqlSession
from humble_ledger.errors import HumbleError

_BUILT_ON_TABLES = (
    ("VIEW", "SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = %s"),
    (
        "FUNCTION",
        "SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = %s "
        "AND ROUTINE_TYPE = 'FUNCTION'",
    ),
)


@contextmanager
def hollow_of(
    url: str, limits: Limits, engine: str, progress: Callable[[str], None], *, keep: bool
) -> Iterator[MysqlHollow]:
    """A copy for as long as it is asked; with ``keep`` it stays for the next time.

    Raises:
        HumbleError: there are no programs for it here, or the target cannot be read.
    """
    target = MysqlSession(url, limits, engine)
    try:
        looking_closely(target.connection)
        with house_for(target.connection, url, target.database, keep=keep) as house:
            progress("making a copy of the schema")
            made = _made(target, house, progress)
            yield made
            if house.place is not None:
                house.place.keep(made.kept(), tuple(made.notes))
    finally:
        target.close()


def _made(target: MysqlSession, house: House, progress: Callable[[str], None]) -> MysqlHollow:
    database, copy = target.database, house.connection
    prepare(copy)
    copy.do("SET SESSION foreign_key_checks = 0")
    before = _left(house, database)
    lacks, tables, known = [], {}, {}
    for table in tables_of(target.connection, database):
        there = before.pop(table.name, None)
        try:
            if there is None or there.sql != table.sql:
                copy.do(f"DROP TABLE IF EXISTS {quoted(table.name)}")
                copy.do(table.sql)
                there = KeptTable(table.sql)
            tables[table.name.lower()], known[table.name] = table, there
        except HumbleError as error:
            lacks.append(f"{table.name} cannot be made again: {error.message}")
    for name in before:
        copy.do(f"DROP TABLE IF EXISTS {quoted(name)}")
    waiting = list(others_of(target.connection, database))
    views = {name.lower(): sql for name, sql in waiting if " VIEW " in sql[:200]}
    while waiting:  # a view may rest on others
        left = []
        for name, sql in waiting:
            try:
                copy.do(sql)
            except HumbleError:
                left.append((name, sql))
        if len(left) == len(waiting):
            lacks += [f"{name} cannot be made again" for name, _ in left]
            break
        waiting = left
    with contextlib.suppress(HumbleError):
        copy.do("SET SESSION foreign_key_checks = 1")
    return MysqlHollow(
        target, copy, house.owner, house.url, tables, views, progress,
        Warmth(house.owner, database), _lacks=lacks, _known=known,
    )  # fmt: skip


def _left(house: House, database: str) -> dict[str, KeptTable]:
    """The tables that an earlier command left, without what it supposed, and nothing else."""
    copy = house.connection
    if house.place is None:
        return {}
    for kind, asked in _BUILT_ON_TABLES:
        for (name,) in copy.asked(asked, database):
            copy.do(f"DROP {kind} {quoted(str(name))}")
    supposed: dict[str, list[str]] = {}
    for table, index in copy.asked(
        "SELECT DISTINCT TABLE_NAME, INDEX_NAME FROM information_schema.STATISTICS "
        "WHERE TABLE_SCHEMA = %s AND INDEX_NAME LIKE %s",
        database,
        SUPPOSED.format("%").replace("_", "\\_"),
    ):
        supposed.setdefault(str(table), []).append(f"DROP INDEX {quoted(str(index))}")
    for table, drops in supposed.items():
        copy.do(f"ALTER TABLE {quoted(table)} {', '.join(drops)}")
    return dict(house.place.record.tables)
