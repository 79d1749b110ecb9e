"""SQLite's SQL; see `core.dialect`."""

from __future__ import annotations

from humble_ledger.core.dialect import Dialect

SQLITE = Dialect(
    parser="sqlite",
    includes=False,
    # A new index has no statistics, and without them the planner guesses.
    after_build='ANALYZE "{name}"',
    role_settings=False,
)
