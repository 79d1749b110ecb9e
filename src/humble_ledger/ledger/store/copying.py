"""A ledger copied whole to a new place: every row with its number, and the numbers to come."""

from __future__ import annotations

from itertools import islice
from pathlib import Path

from sqlalchemy import insert, select

from humble_ledger.errors import LedgerUnreachable
from humble_ledger.ledger.store.contract import Store
from humble_ledger.ledger.store.opening import open_store
from humble_ledger.ledger.store.place import Place
from humble_ledger.ledger.store.sql import last_id, move_ids_on
from humble_ledger.ledger.tables import about, metadata

_AT_ONCE = 1000


def copy_into_new(source: Store, to: Place) -> int:
    """Copy a ledger to where there is none; the bytes that the copy takes.

    The copy is the same ledger: it has the same name for itself on targets.

    Raises:
        LedgerUnreachable: there is one already, or it cannot be written.
    """
    if isinstance(to, Path) and to.exists():
        raise LedgerUnreachable(f"The file {to} is there already.", "Name another.")
    copy = open_store(to, create=True)
    try:
        with copy.writing() as into:
            if into.execute(select(about.c.key)).first() is not None:
                raise LedgerUnreachable(f"There is a ledger at {to} already.", "Name another.")
            with source.reading() as c:
                for table in metadata.sorted_tables:
                    rows = c.execution_options(yield_per=_AT_ONCE).execute(select(table))
                    while some := [dict(row._mapping) for row in islice(rows, _AT_ONCE)]:
                        into.execute(insert(table), some)
                    if "id" in table.c and (last := last_id(c, table)):
                        move_ids_on(into, table, last)
    finally:
        copy.close()
    return to.stat().st_size if isinstance(to, Path) else copy.size_bytes()
