"""What one session runs now, with its plan and the rows that came so far.

MariaDB tells both from 10.9 on (SHOW ANALYZE FORMAT=JSON FOR), MySQL the plan alone.
"""

from __future__ import annotations

from typing import Any

from humble_ledger.core.workload.following import Done
from humble_ledger.engines.contract import PlanDocument, Running
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.plans.json_text import decoded
from humble_ledger.engines.mysql.plans.reading import plan_of
from humble_ledger.engines.mysql.plans.statement import context_in
from humble_ledger.errors import HumbleError

_WITH_ROWS = 100900  # MariaDB, from which on a running statement is analyzed
_WORKS = ("Query", "Execute")


def running(connection: Connection, session: int, database: str, engine: str) -> Running | None:
    """What a session runs; None when it runs nothing, or is not there."""
    mariadb = connection.member.mariadb
    more = "TIME_MS, STAGE, MAX_STAGE, PROGRESS" if mariadb else "TIME * 1000, 0, 0, 0"
    rows = connection.asked(
        f"SELECT COMMAND, STATE, INFO, DB, {more} "  # noqa: S608 - one of the two above
        "FROM information_schema.PROCESSLIST WHERE ID = %s",
        session,
    )
    if not rows or str(rows[0][0]) not in _WORKS or not rows[0][2]:
        return None
    _, state, text, at, elapsed, stage, stages, part = rows[0]
    done: tuple[Done, ...] = ()
    if int(stages or 0) > 0:
        what = f"{state}, stage {int(stage)} of {int(stages)}: percent"
        done = (Done(what, float(part), 100.0),)
    found = _plan(connection, session, str(text), str(at or database), engine)
    return Running(str(text), float(elapsed), found, done)


def _plan(
    connection: Connection, session: int, sql: str, database: str, engine: str
) -> PlanDocument | None:
    for asked in _questions(connection, int(session)):
        try:
            plan = decoded(str(connection.one(asked)))
            context = context_in(sql, "", database)
            document: dict[str, Any] = {
                "mysql_plan": 1, "engine": engine, "version": connection.member.version,
                "plan": plan, **context,
            }  # fmt: skip
            if isinstance(plan, dict) and "r_query_time_in_progress_ms" in plan:
                document["took_ms"] = plan["r_query_time_in_progress_ms"]
            return PlanDocument(plan_of(document, engine, ""), document)
        except (HumbleError, ValueError):
            continue  # it has none at this moment: it is still planned, or no such statement
    return None


def _questions(connection: Connection, session: int) -> list[str]:
    if not connection.member.mariadb:
        return [f"EXPLAIN FORMAT=JSON FOR CONNECTION {session}"]
    if connection.member.number >= _WITH_ROWS:
        return [
            f"SHOW ANALYZE FORMAT=JSON FOR {session}",
            f"SHOW EXPLAIN FORMAT=JSON FOR {session}",
        ]
    return []
