"""Records plans from a real server: `python -m tests.record_plans 18 tests/fixtures/plans/18`.

The statements are the demo's workload, and the shapes of `tests/plan_shapes.py`.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import psycopg

from humble_ledger.core.statements.kinds import Statement
from humble_ledger.demo.scenario import build_scenario, scenario_cluster
from humble_ledger.demo.workload import load_workload
from humble_ledger.engines.contract import ExplainOptions, Limits, PlanDocument
from humble_ledger.engines.postgresql.connection import Connection, connect
from humble_ledger.engines.postgresql.explain import explain
from humble_ledger.engines.postgresql.launcher import find_binaries
from humble_ledger.engines.postgresql.session import PostgresSession
from tests.plan_shapes import SETUP, SHAPES


def main() -> None:
    """Record into the folder given."""
    binaries = find_binaries(major=int(sys.argv[1]))
    folder = Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    with scenario_cluster(binaries) as cluster:
        url = build_scenario(cluster)
        with psycopg.connect(url, autocommit=True) as connection:
            for statement in SETUP.split(";\n"):
                if statement.strip():
                    connection.execute(statement.encode())
        session = PostgresSession(url, Limits())
        for each in load_workload():
            _save(session, folder, each.name, filled(url, each.sql, each.value_sets[0]))
        session.close()
        with connect(url, Limits(), read_only=False) as connection:
            for name, shape in SHAPES.items():
                settings, sql = ("", shape) if isinstance(shape, str) else shape
                found = _with_settings(connection, settings, Statement(sql), binaries.version)
                _write(folder, name, found)


def filled(url: str, sql: str, values: tuple[object, ...]) -> str:
    """A statement of the workload with its values written in."""
    with psycopg.connect(url) as connection:
        cursor = psycopg.ClientCursor(connection)
        named = {f"p{n}": value for n, value in enumerate(values, start=1)}
        for n in range(len(values), 0, -1):
            sql = sql.replace(f"${n}", f"%(p{n})s")
        return cursor.mogrify(sql, named)


def _save(session: PostgresSession, folder: Path, name: str, sql: str) -> None:
    _write(
        folder,
        name,
        session.explain(Statement(sql), ExplainOptions(measure=True, allow_writes=True)),
    )


def _with_settings(
    connection: Connection, settings: str, statement: Statement, version: str
) -> PlanDocument:
    """The measured plan under some settings; whatever it changed is undone."""
    connection.execute("BEGIN")
    try:
        for setting in filter(None, settings.split("; ")):
            connection.execute(setting.encode())
        return explain(connection, statement, measure=True, version=version)
    finally:
        connection.rollback()


def _write(folder: Path, name: str, found: PlanDocument) -> None:
    (folder / f"{name}.json").write_text(json.dumps(found.document, indent=1) + "\n")


if __name__ == "__main__":
    main()
