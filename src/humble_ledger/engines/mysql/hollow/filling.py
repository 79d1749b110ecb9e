"""Putting rows into a table of the copy: those of a sample, each as often as it takes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import pymysql

from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.faults import translated
from humble_ledger.engines.mysql.hollow.rows import Made, surely_unique, ways
from humble_ledger.engines.mysql.hollow.source import SourceTable, sampled
from humble_ledger.engines.mysql.naming import quoted

STAGE = "humble_stage"  # a database beside the target's, for samples
MOST_READ = 60_000  # rows of a table that are read of the target
MOST_MADE = 600_000  # rows of a table in the copy
_BATCH = 2_000
_FEWEST_KEPT = 0.9
# Nothing is checked that the target has checked, and an empty table is filled in its order.
_UNCHECKED = "SET SESSION foreign_key_checks = 0, unique_checks = 0, sql_mode = ''"
_NO_CONSTRAINTS = "SET SESSION check_constraint_checks = 0"  # MariaDB alone can do without


@dataclass(frozen=True, slots=True)
class Filled:
    """How many ``rows`` a table of the copy has, of how many that were to be made of those that
    were ``read``; the target is told to have ``wanted``.
    """

    table: str
    rows: int
    wanted: float
    read: int
    to_be_made: int
    partial: bool = False  # the target has more rows than were made

    @property
    def lack(self) -> str:
        """What that may spoil; "" for nothing worth a word."""
        if self.partial:
            return (
                f"{self.table} has {self.wanted:,.0f} rows or more and the copy {self.rows:,}: how "
                "many rows lie between two values is not asked there"
            )
        if self.rows < _FEWEST_KEPT * self.to_be_made:
            return f"of {self.to_be_made:,} rows of {self.table} the copy takes {self.rows:,}"
        return ""


def prepare(copy: Connection) -> None:
    """A place for samples, with the numbers that rows are made by."""
    copy.do(f"CREATE DATABASE IF NOT EXISTS {STAGE}")
    copy.do(f"CREATE TABLE IF NOT EXISTS {STAGE}.numbers (n INT PRIMARY KEY)")
    most = math.ceil(MOST_MADE / MOST_READ) + 1
    numbers = ", ".join(f"({n})" for n in range(most))
    copy.do(f"INSERT IGNORE INTO {STAGE}.numbers VALUES {numbers}")


def fill(
    target: Connection, copy: Connection, database: str, table: SourceTable, rows: float
) -> Filled:
    """Fill an empty table of the copy like the target's, which has so many rows.

    Raises:
        HumbleError: the target's cannot be read, or no row can be put in.
    """
    too_many = rows > MOST_MADE
    one_of = 1 if too_many else max(1, math.ceil(rows / MOST_READ))
    most = MOST_READ * 2
    found = sampled(target, table, one_of, most)
    # What the server believes how many rows there are may be long out of date.
    partial = too_many or len(found) >= most
    place = f"{quoted(database)}.{quoted(table.name)}"
    modes = copy.one("SELECT @@SESSION.sql_mode")
    copy.do(_UNCHECKED)
    if copy.member.mariadb:
        copy.do(_NO_CONSTRAINTS)
    times = 1
    try:
        if one_of == 1 or not table.columns:
            _put(copy, place, [c.name for c in table.columns], found)
        else:
            # One row in so many was read, whatever the server believes how many there are.
            times = one_of if table.primary else max(1, round(rows / max(1, len(found))))
            _multiplied(copy, place, table, found, ways(table, found, times, rows), times)
    finally:
        copy.do("SET SESSION foreign_key_checks = 1, unique_checks = 1")
        copy.asked("SET SESSION sql_mode = %s", modes)
    there = int(copy.one(f"SELECT COUNT(*) FROM {place}"))
    return Filled(table.name, there, rows, len(found), len(found) * times, partial)


def _multiplied(
    copy: Connection,
    place: str,
    table: SourceTable,
    found: Sequence[tuple[Any, ...]],
    made: Sequence[Made],
    times: int,
) -> None:
    names = [column.name for column in table.columns]
    gaps = [number for number, each in enumerate(made) if each.gaps]
    stage = f"{STAGE}.sample"
    copy.do(f"DROP TABLE IF EXISTS {stage}")
    shown = ", ".join(quoted(name) for name in names)
    extra = "".join(f", 0e0 AS humble_gap_{number}" for number in gaps)
    copy.do(
        f"CREATE TABLE {stage} ENGINE=InnoDB AS SELECT 0 AS humble_no, {shown}{extra} "
        f"FROM {place} LIMIT 0"
    )
    rows = [
        (number, *row, *(made[gap].gaps[number] for gap in gaps))
        for number, row in enumerate(found)
    ]
    _put(copy, stage, ["humble_no", *names, *(f"humble_gap_{gap}" for gap in gaps)], rows)
    values = ", ".join(each.expression for each in made)
    keys = [made[names.index(name)].expression for name in table.primary if name in names]
    order = f" ORDER BY {', '.join(keys)}" if keys else ""
    # Filled at one go, an empty table stays empty when two rows have one key; row by row the
    # second is left out.
    copy.do(f"SET SESSION unique_checks = {int(not surely_unique(table))}")
    copy.do(
        f"INSERT IGNORE INTO {place} ({shown}) SELECT {values} FROM {stage} p "
        f"JOIN {STAGE}.numbers s ON s.n < {times}{order}"
    )
    copy.do(f"DROP TABLE {stage}")


def _put(
    copy: Connection, place: str, names: Sequence[str], rows: Sequence[tuple[Any, ...]]
) -> None:
    if not names or not rows:
        return
    shown = ", ".join(quoted(name) for name in names)
    marks = ", ".join(["%s"] * len(names))
    with translated(), copy.raw.cursor() as cursor:
        cursor.execute("START TRANSACTION")
        try:
            for first in range(0, len(rows), _BATCH):
                cursor.executemany(
                    f"INSERT IGNORE INTO {place} ({shown}) VALUES ({marks})",
                    rows[first : first + _BATCH],
                )
            cursor.execute("COMMIT")
        except pymysql.Error:
            cursor.execute("ROLLBACK")
            raise
