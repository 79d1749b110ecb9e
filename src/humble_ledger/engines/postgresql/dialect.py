"""PostgreSQL's SQL; see `core.dialect`."""

from __future__ import annotations

from humble_ledger.core.dialect import Dialect

POSTGRESQL = Dialect(
    default_schema="public",
    online="CONCURRENTLY",
    online_costs="it reads the table twice and waits for older transactions",
    # Online builds wait for old transactions, so only waiting for the lock is limited.
    script_head="SET lock_timeout = '2s';\nSET statement_timeout = 0;\n",
)
