"""The few pieces of SQL that are not the same on every store."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Any

import msgspec
from sqlalchemy import (
    ARRAY,
    BigInteger,
    Connection,
    Table,
    bindparam,
    func,
    insert,
    select,
    text,
)

_SQLITE = "sqlite"


def reserve_ids(c: Connection, table: Table, many: int) -> int:
    """The first of so many numbers for new rows of a table; numbers are never used twice.

    Whoever asks holds the lock for writing, and inserts rows with just these numbers.
    """
    if c.dialect.name == _SQLITE:
        # Rows that come with their numbers move this on by themselves.
        wanted = text("SELECT seq FROM sqlite_sequence WHERE name = :name")
        return int(c.execute(wanted, {"name": table.name}).scalar() or 0) + 1
    if not many:
        return 0
    first = int(c.execute(select(func.nextval(f"{table.name}_id_seq"))).scalar_one())
    move_ids_on(c, table, first + many - 1)
    return first


def move_ids_on(c: Connection, table: Table, last: int) -> None:
    """Let the next new row of a table get a number above this one."""
    if c.dialect.name == _SQLITE:
        moved = text("UPDATE sqlite_sequence SET seq = :last WHERE name = :name")
        values = {"last": last, "name": table.name}
        if not c.execute(moved, values).rowcount:
            c.execute(text("INSERT INTO sqlite_sequence (name, seq) VALUES (:name, :last)"), values)
        return
    c.execute(select(func.setval(f"{table.name}_id_seq", last)))


def last_id(c: Connection, table: Table) -> int:
    """The highest number a row of a table ever had; 0 when there was none."""
    if c.dialect.name == _SQLITE:
        return reserve_ids(c, table, 0) - 1
    wanted = text("SELECT last_value FROM pg_sequences WHERE schemaname = current_schema() "
                  "AND sequencename = :name")  # fmt: skip
    return int(c.execute(wanted, {"name": f"{table.name}_id_seq"}).scalar() or 0)


def listed(c: Connection, numbers: Collection[int]) -> Any:
    """Numbers as a selection, so that there may be as many as there are."""
    if c.dialect.name == _SQLITE:
        values = ",".join(str(int(number)) for number in sorted(numbers))
        each = func.json_each(f"[{values}]").table_valued("value")
        return select(each.c.value)
    given = bindparam(None, sorted(numbers), type_=ARRAY(BigInteger))
    each = func.unnest(given).table_valued("value").render_derived()
    return select(each.c.value)


def insert_many(
    c: Connection, table: Table, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]
) -> None:
    """Insert rows as the driver takes them, JSON as text.

    They come by the hundred thousand, and most of the time of an insert goes into turning each
    row's values into the driver's, one by one.
    """
    given = list(rows)
    if not given:
        return
    values: dict[str, Any] = {name: bindparam(name) for name in columns}
    compiled = insert(table).values(values).compile(dialect=c.dialect)
    order = compiled.positiontup or list(columns)
    if list(order) != list(columns):
        at = [list(columns).index(name) for name in order]
        given = [tuple(row[place] for place in at) for row in given]
    c.exec_driver_sql(str(compiled), given)


def as_json(value: object) -> str:
    """A value as `insert_many` takes it for a column of JSON."""
    return msgspec.json.encode(value).decode()


def _copy_in(
    c: Connection, table: Table, columns: Sequence[str], rows: Sequence[tuple[Any, ...]]
) -> None:
    """Rows by COPY, in the connection's transaction: ten times as quick as one INSERT for each."""
    quoted = c.dialect.identifier_preparer.quote
    names = ", ".join(quoted(name) for name in columns)
    driver: Any = c.connection.cursor()
    with driver as cursor, cursor.copy(f"COPY {quoted(table.name)} ({names}) FROM STDIN") as copy:
        for row in rows:
            copy.write_row(row)
