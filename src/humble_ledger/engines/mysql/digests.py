"""The server's own statistics of statements: performance_schema's digests."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.statements.placeholders import numbered
from humble_ledger.core.workload.statistics import StatementCounters, StatisticsLook
from humble_ledger.core.workload.usage import Work
from humble_ledger.engines.mysql.catalogue import SYSTEM
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.engines.mysql.lexing import readable, standard
from humble_ledger.errors import HumbleError, WrongUsage

_PS_TO_MS = 1e-9
# Words that the server's lexer gives another name than people do.
_USUAL = (
    (re.compile(r"\bDISTINCTROW\b", re.IGNORECASE), "DISTINCT"),
    (re.compile(r"\bSQL_TSI_(?=[A-Z]+\b)", re.IGNORECASE), ""),
)
_LIST = re.compile(r"\(\s*\.\.\.\s*\)")


def look(connection: Connection, database: str) -> StatisticsLook:
    """All counters of this database's statements.

    Raises:
        WrongUsage: the server does not count, or they may not be read.
    """
    sample = "QUERY_SAMPLE_TEXT" if connection.member.has(None, 80003) else "NULL"
    try:
        on = connection.one("SELECT @@GLOBAL.performance_schema")
        rows = connection.asked(
            "SELECT DIGEST, DIGEST_TEXT, COUNT_STAR, SUM_TIMER_WAIT, AVG_TIMER_WAIT, "  # noqa: S608
            "MAX_TIMER_WAIT, SUM_ROWS_SENT + SUM_ROWS_AFFECTED, FIRST_SEEN, "
            f"{sample} FROM performance_schema.events_statements_summary_by_digest "
            "WHERE SCHEMA_NAME = %s AND DIGEST_TEXT IS NOT NULL",
            database,
        )
    except HumbleError as error:
        raise WrongUsage(
            f"The statistics of statements cannot be read: {error.message}",
            "How to open them is told by:  humble preflight",
        ) from error
    if not int(on or 0):
        raise WrongUsage(
            "This server counts no statements: performance_schema is off.",
            "How to switch it on is told by:  humble preflight",
        )
    kept = "information_schema" if connection.member.mariadb else "performance_schema"
    taken_at, up = connection.rows(
        f"SELECT UTC_TIMESTAMP(6), VARIABLE_VALUE FROM {kept}.global_status "  # noqa: S608
        "WHERE VARIABLE_NAME = 'Uptime'"
    )[0]
    now = _utc(taken_at)
    found = []
    for digest, text, calls, total, mean, longest, sent, _, example in rows:
        sql = readable(str(example)) if example else statement_of(str(text))
        if not _wanted(sql):
            continue
        found.append(
            StatementCounters(
                f"{database}/{digest}",
                sql,
                "",
                database,
                int(calls),
                float(total) * _PS_TO_MS,
                float(mean) * _PS_TO_MS,
                0.0,
                float(longest) * _PS_TO_MS,
                Work(rows=float(sent or 0)),
            )
        )
    return StatisticsLook(now, found, now - timedelta(seconds=float(up)))


def statement_of(digest: str) -> str:
    """A digest's text as a statement with $1 in place of its constants."""
    text = re.sub(r"\s*\.\s*", ".", _LIST.sub("(?)", readable(digest)))
    for pattern, usual in _USUAL:
        text = pattern.sub(usual, text)
    return numbered(text, "qmark")[0]


def _wanted(sql: str) -> bool:
    small = sql.lower()
    if any(f"{name}." in small for name in SYSTEM) or "@@" in sql:
        return False
    return kind_of(standard(sql)) is not StatementKind.NO_PLAN


def _utc(moment: object) -> datetime:
    found = moment if isinstance(moment, datetime) else datetime.fromisoformat(str(moment))
    return found.replace(tzinfo=UTC)
