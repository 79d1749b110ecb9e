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
    r"pg_[a-z]|CONCURRENTLY|work_mem|hash_mem|\bjit_|_page_cost|cpu_[a-z]+_cost|enable_[a-z]"
    r"|max_parallel|log_line_prefix|indisvalid|SubPlan|InitPlan|Seq Scan|Heap Blocks|Heap Fetches"
    r"|SQLSTATE|VACUUM|ANALYZE|\"postgres\"|\bgin\b|\bbrin\b|\"public\""
)
# Their own rooms: the engine, the demo's story and SQL, the glossary, migrations, which stay as
# they were, and what the ledger itself is kept in.
ROOMS = (
    "engines/postgresql/", "engines/sqlite/", "engines/mysql/", "engines/elsewhere/", "demo/",
    "core/glossary/", "ledger/migrations/", "ledger/store/",
)  # fmt: skip
KNOWN = {
    "cli/commands/capture.py": 2,
    "cli/commands/trial.py": 1,
    "core/costs/contract.py": 2,
    "core/costs/unknown.py": 2,
    "core/dialect.py": 1,
    "core/plans/model.py": 1,
    "core/remedies/asked.py": 1,
    "core/remedies/candidates/extremes.py": 1,
    "core/remedies/candidates/model.py": 1,
    "core/remedies/candidates/operator_classes.py": 1,
    "core/remedies/settings.py": 1,
    "core/schema/facts.py": 1,
    "core/schema/index_methods.py": 2,
    "core/schema/quoting.py": 1,
    "core/statements/conditions.py": 7,
    "core/statements/fingerprint.py": 1,
    "core/symptoms/case.py": 4,
    "core/symptoms/in_plans/spills.py": 2,
    "core/symptoms/in_plans/subplans.py": 1,
    "core/trials/model.py": 1,
    "core/workload/incidents.py": 1,
    "core/workload/statistics.py": 1,
    "core/workload/waits.py": 3,
    "engines/registry.py": 1,
    "ledger/bodies.py": 3,
    "views/terminal/plan_tables.py": 4,
    "views/terminal/tables.py": 1,
    "views/wording/scans.py": 2,
    "views/wording/schema.py": 2,
    "views/wording/work.py": 1,
    "workflow/capturing/logs.py": 3,
    "workflow/reading/parameters.py": 1,
    "workflow/replaying/changing.py": 1,
    "workflow/trying/trial.py": 3,
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
