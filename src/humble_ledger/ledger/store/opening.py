"""Opening the store of a place."""

from __future__ import annotations

from pathlib import Path

from humble_ledger.ledger.store.contract import Store
from humble_ledger.ledger.store.place import Place


def open_store(place: Place, *, create: bool = False) -> Store:
    """The store of a ledger; ``create`` makes one where there is none.

    Raises:
        LedgerUnreachable: there is none, it is none, or it cannot be opened.
    """
    if isinstance(place, Path):
        from humble_ledger.ledger.store.sqlite_file import FileStore  # noqa: PLC0415

        return FileStore(place, create=create)
    # Most ledgers are files: the driver is loaded for those that are not.
    from humble_ledger.ledger.store.postgresql_schema import SchemaStore  # noqa: PLC0415

    return SchemaStore(place, create=create)
