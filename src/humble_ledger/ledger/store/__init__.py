"""Where a ledger is kept: a file of its own (SQLite), or a schema of a PostgreSQL server.

Shelves know a `Store` only; what differs between the two is in this folder.
"""

from humble_ledger.ledger.store.contract import Store
from humble_ledger.ledger.store.opening import open_store

__all__ = ["Store", "open_store"]
