"""SQLite's SQL; see `core.dialect`."""

from __future__ import annotations

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.schema.index_methods import IndexMethod
from humble_ledger.engines.sqlite.sql_dialect import NAME

SQLITE = Dialect(
    parser=NAME,
    methods=frozenset((IndexMethod.SORTED,)),
    includes=False,
    # A new index has no statistics, and without them the planner guesses.
    after_build="ANALYZE {name}",
    settings=False,
    times=False,
    like_tells_case=False,
    # All tables (0x10000), with ANALYZE (2), each looked at for a limited time (0x10).
    analyze_needed="PRAGMA optimize = 0x10012",
)
