"""PostgreSQL's SQL; see `core.dialect`."""

from __future__ import annotations

from humble_ledger.core.dialect import Dialect, PartedBuild, StatisticsWords

POSTGRESQL = Dialect(
    default_schema="public",
    online="CONCURRENTLY",
    online_costs="it reads the table twice and waits for older transactions",
    # Online builds wait for old transactions, so only waiting for the lock is limited.
    script_head="SET lock_timeout = '2s';\nSET statement_timeout = 0;\n",
    parted=PartedBuild(
        whole="CREATE INDEX {name} ON ONLY {table} {body}",
        attached="ALTER INDEX {whole} ATTACH PARTITION {part}",
    ),
    setting_example="work_mem=64MB",
    freed="VACUUM",
    compacted="VACUUM FULL",
    rebuilt_online="REINDEX INDEX CONCURRENTLY",
    statistics=StatisticsWords(
        together="CREATE STATISTICS {name} (dependencies, mcv) ON {columns} FROM {table}",
        of_expression="CREATE STATISTICS {name} ON ({expression}) FROM {table}",
        dropped="DROP STATISTICS {name}",
        target="ALTER TABLE {table} ALTER COLUMN {column} SET STATISTICS {values}",
        usual_target="-1",
    ),
)
