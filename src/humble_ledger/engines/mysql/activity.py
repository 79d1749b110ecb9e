"""What every session does at this moment, and who waits for whom."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

from humble_ledger.core.workload.sampling import (
    ACTIVE,
    IDLE_IN_TRANSACTION,
    ActivityLook,
    SessionLook,
)
from humble_ledger.engines.contract import APPLICATION_NAME
from humble_ledger.engines.mysql.connection import Connection
from humble_ledger.errors import HumbleError

_IDLE = ("Sleep", "Daemon", "Binlog Dump", "Binlog Dump GTID")
_OWN_WORK = (
    "", "Sending data", "executing", "Sorting result", "statistics", "init", "updating",
    "Copying to tmp table", "Creating sort index", "Sorting for group", "Sorting for order",
)  # fmt: skip


# Two looks at one statement tell its beginning a little differently: so far apart it is the same.
_SAME_WITHIN = timedelta(seconds=1.5)
Begun = dict[tuple[int, str], datetime]


def look(connection: Connection, begun: Begun) -> ActivityLook:
    """All other sessions that do something, or hold a transaction open.

    ``begun`` remembers from look to look when each statement was said to have begun.
    """
    mine = connection.number
    exact = "TIME_MS / 1000" if connection.member.mariadb else "TIME"
    rows = connection.rows(
        f"SELECT ID, USER, DB, COMMAND, {exact}, STATE, INFO, UTC_TIMESTAMP(6) "  # noqa: S608
        "FROM information_schema.PROCESSLIST"
    )
    names = _applications(connection)
    transactions = _transactions(connection)
    blocked = _blocked(connection)
    now = datetime.now(UTC)
    sessions = []
    for pid, user, database, command, seconds, state, text, at in rows:
        now = _utc(at)
        if int(pid) == mine or str(user) in ("system user", "event_scheduler"):
            continue
        name = names.get(int(pid), "")
        if name.startswith(APPLICATION_NAME):
            continue
        idle = str(command) in _IDLE
        began = transactions.get(int(pid))
        if idle and began is None:
            continue
        since = now - timedelta(seconds=float(seconds or 0))
        key = (int(pid), str(text or ""))
        earlier = begun.get(key)
        if earlier is not None and abs(since - earlier) < _SAME_WITHIN:
            since = earlier
        begun[key] = since
        waits_for = tuple(blocked.get(int(pid), ()))
        kind, event = _wait(str(state or ""), idle=idle, blocked=bool(waits_for))
        sessions.append(
            SessionLook(
                int(pid),
                str(user or ""),
                str(database or ""),
                name,
                IDLE_IN_TRANSACTION if idle else ACTIVE,
                str(text or ""),
                kind,
                event,
                began,
                None if idle else since,
                since,
                waits_for,
            )
        )
    return ActivityLook(now, sessions)


def trials(connection: Connection, mark: str) -> tuple[str, ...]:
    """Names of the connections of other trials."""
    found = []
    for name in _applications(connection).values():
        words = name.split()
        if len(words) > 1 and words[0] == APPLICATION_NAME and words[1] != mark:
            found.append(words[1])
    return tuple(dict.fromkeys(found))


def sessions_of(connection: Connection, mark: str) -> tuple[int, ...]:
    """The connections that carry a trial's mark."""
    mine = connection.number
    wanted = f"{APPLICATION_NAME} {mark}"
    names = _applications(connection)
    return tuple(pid for pid, name in names.items() if name == wanted and pid != mine)


def _applications(connection: Connection) -> Mapping[int, str]:
    """What programs call themselves, where the server keeps that."""
    try:
        rows = connection.rows(
            "SELECT PROCESSLIST_ID, ATTR_VALUE FROM performance_schema.session_connect_attrs "
            "WHERE ATTR_NAME = 'program_name'"
        )
    except HumbleError:
        return {}
    return {int(pid): str(name or "") for pid, name in rows}


def _transactions(connection: Connection) -> Mapping[int, datetime]:
    try:
        rows = connection.rows(
            "SELECT trx_mysql_thread_id, CONVERT_TZ(trx_started, @@SESSION.time_zone, '+00:00') "
            "FROM information_schema.INNODB_TRX"
        )
    except HumbleError:
        return {}
    return {int(pid): _utc(began) for pid, began in rows if began is not None}


def _blocked(connection: Connection) -> Mapping[int, list[int]]:
    if connection.member.mariadb:
        sql = (
            "SELECT r.trx_mysql_thread_id, b.trx_mysql_thread_id "
            "FROM information_schema.INNODB_LOCK_WAITS w "
            "JOIN information_schema.INNODB_TRX r ON r.trx_id = w.requesting_trx_id "
            "JOIN information_schema.INNODB_TRX b ON b.trx_id = w.blocking_trx_id"
        )
    else:
        sql = (
            "SELECT r.trx_mysql_thread_id, b.trx_mysql_thread_id "
            "FROM performance_schema.data_lock_waits w "
            "JOIN information_schema.INNODB_TRX r "
            "ON r.trx_id = w.REQUESTING_ENGINE_TRANSACTION_ID "
            "JOIN information_schema.INNODB_TRX b ON b.trx_id = w.BLOCKING_ENGINE_TRANSACTION_ID"
        )
    try:
        rows = connection.rows(sql)
    except HumbleError:
        return {}
    found: dict[int, list[int]] = {}
    for waiting, holding in rows:
        others = found.setdefault(int(waiting), [])
        if int(holding) not in others:
            others.append(int(holding))
    return found


def _wait(state: str, *, idle: bool, blocked: bool) -> tuple[str, str]:
    if idle:
        return "Client", "ClientRead"
    if blocked:
        return "Lock", "row lock"
    if "lock" in state.lower() or state.lower().startswith("waiting"):
        return "Lock", state
    if state in _OWN_WORK:
        return "", ""
    return ("Timeout" if state == "User sleep" else "Server"), state


def _utc(moment: Any) -> datetime:
    found = moment if isinstance(moment, datetime) else datetime.fromisoformat(str(moment))
    return found.replace(tzinfo=UTC)
