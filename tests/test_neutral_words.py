"""Words that only one server has stay with its engine.

What still stands elsewhere is counted here, file by file. A number may fall, never rise: a file
that is not listed has none. See docs/decisions/0006-postgresql-in-core.md for where each should go.
"""

from __future__ import annotations

import re
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src" / "humble_ledger"
# Functions, catalogues, settings, wait events, cost constants, labels of steps, index methods, and
# phrases of DDL.
WORDS = re.compile(
    r"pg_[a-z]|CONCURRENTLY|work_mem|\bhash_mem_|\bjit_(?!overhead)|_page_cost|cpu_[a-z]+_cost"
    r"|enable_[a-z]|shared_buffers|max_wal|DataFileRead|ClientRead|_pattern_ops|_trgm_ops"
    r"|max_parallel|log_line_prefix|indisvalid|SubPlan|InitPlan|Seq Scan|Heap Blocks|Heap Fetches"
    r"|SQLSTATE|VACUUM|ANALYZE|\"postgres\"|\bgin\b|\bbrin\b|\"public\""
)
# Their own rooms: the engine, the demo's story and SQL, the glossary, migrations, which stay as
# they were, and what the ledger itself is kept in.
ROOMS = (
    "engines/postgresql/", "engines/sqlite/", "engines/mysql/", "engines/elsewhere/", "demo/",
    "core/glossary/", "ledger/migrations/", "ledger/store/",
)  # fmt: skip
# What is left, and why.
KNOWN = {
    "cli/commands/capture.py": 1,  # the help of an option that is for one kind of server
    "core/dialect.py": 1,  # the usual statement, which several servers have
    "core/remedies/candidates/extremes.py": 1,  # the notation of conditions
    "core/schema/facts.py": 1,  # a schema that goes without saying, at several servers
    "core/schema/index_methods.py": 2,  # kinds of index that one server has, by its words
    "core/schema/operator_classes.py": 4,  # what one server has
    "core/schema/quoting.py": 1,  # as facts
    "core/statements/conditions.py": 8,  # the notation of conditions, in which every reader writes
    "core/statements/fingerprint.py": 1,  # names made up anew each time
    "engines/registry.py": 1,
    "ledger/bodies.py": 3,  # what was kept in former forms
}


def test_no_file_names_more_of_one_server_than_it_did() -> None:
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = path.relative_to(SOURCE).as_posix()
        count = 0 if name.startswith(ROOMS) else len(WORDS.findall(path.read_text()))
        if count:
            found[name] = count
    assert {k: v for k, v in found.items() if v > KNOWN.get(k, 0)} == {}, "name it in the engine"
    fewer = {k: v for k, v in KNOWN.items() if v > found.get(k, 0)}
    assert fewer == {}, "good: lower these numbers here"
