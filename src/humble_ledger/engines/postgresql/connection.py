"""Opening a connection the way PostgreSQL's users expect, and safe from the first moment."""

from __future__ import annotations

import contextlib
from typing import Any
from urllib.parse import urlsplit, urlunsplit

import psycopg
from psycopg import conninfo
from psycopg.pq import TransactionStatus
from psycopg.rows import TupleRow

from humble_ledger.engines.contract import APPLICATION_NAME, Limits
from humble_ledger.engines.postgresql.faults import translated, unreachable
from humble_ledger.engines.postgresql.one_statement import OwnCursor
from humble_ledger.errors import WrongUsage

Connection = psycopg.Connection[TupleRow]

CONNECT_TIMEOUT_S = 10
CANCEL_S = 5.0
OLDEST_SUPPORTED = 130000
# Notice within this time, also in the middle of a statement, that our process is gone.
CLIENT_CHECK_MS = 2_000
CLIENT_CHECK_FROM = 140000


def parse(url: str) -> dict[str, Any]:
    """The connection parameters of a URL or of «key=value» text.

    Raises:
        WrongUsage: it is neither.
    """
    try:
        return dict(conninfo.conninfo_to_dict(url))
    except psycopg.ProgrammingError as error:
        said = str(error).strip().splitlines()[0]
        raise WrongUsage(
            f"The target's address cannot be read: {_without_secrets(url, said)}.",
            "Write it like  postgresql://user@host:5432/database  or  service=name",
        ) from error


def _without_secrets(url: str, said: str) -> str:
    # The driver may quote parts of the address, password and all.
    return "it is neither a URL nor key=value text" if url and url in said else said


def public_url(url: str) -> str:
    """The URL without its password.

    The other parts stay as they were written, so that a service or an empty host still
    means what the environment says.
    """
    secrets = {"password", "sslpassword"}
    parts = parse(url)
    if not secrets & parts.keys():
        return url
    if "://" not in url:
        return conninfo.make_conninfo("", **{k: v for k, v in parts.items() if k not in secrets})
    split = urlsplit(url)
    user, at, place = split.netloc.rpartition("@")
    netloc = f"{user.split(':', 1)[0]}{at}{place}"
    query = "&".join(p for p in split.query.split("&") if p.split("=", 1)[0] not in secrets)
    return urlunsplit((split.scheme, netloc, split.path, query, split.fragment))


def place_of(url: str) -> str:
    """Where a URL leads, in a few words for messages: «skerry on 127.0.0.1:5432»."""
    parts = parse(url)
    if "service" in parts:
        return f"service {parts['service']}"
    host, port = parts.get("host") or "the default host", parts.get("port")
    database = parts.get("dbname") or "the default database"
    return f"{database} on {host}{f':{port}' if port else ''}"


def connect(url: str, limits: Limits, *, mark: str = "", read_only: bool = True) -> Connection:
    """A connection with time-outs, a name, and read-only unless a trial needs more.

    ``mark`` goes into the application name, so that a session of a broken-off trial can be
    told from all others.

    Raises:
        TargetUnreachable: no connection, with the server's reason.
        WrongUsage: the address cannot be read, or the server is too old.
    """
    parts = parse(url)
    name = f"{APPLICATION_NAME} {mark}".strip()
    try:
        connection = psycopg.connect(
            url,
            autocommit=True,
            prepare_threshold=None,  # a prepared statement may be given a generic plan
            application_name=name,
            connect_timeout=int(parts.get("connect_timeout") or CONNECT_TIMEOUT_S),
            cursor_factory=OwnCursor,
        )
    except psycopg.OperationalError as error:
        raise unreachable(place_of(url), error) from error
    try:
        _settle_session(connection, limits, read_only)
    except BaseException:
        connection.close()
        raise
    return connection


# Trials and measurements run the users' own statements: where we may, we keep them out of the
# server's statistics, which would otherwise count them as the users'.
_NOT_COUNTED_SQL = """
SELECT set_config('pg_stat_statements.track', 'none', false)
WHERE current_setting('is_superuser') = 'on'
  AND current_setting('pg_stat_statements.track', true) IS NOT NULL
"""


def _settle_session(connection: Connection, limits: Limits, read_only: bool) -> None:
    version = connection.info.server_version
    if version < OLDEST_SUPPORTED:
        raise WrongUsage(
            f"This server is PostgreSQL {version // 10000}; versions 13 to 18 are supported."
        )
    settings = {
        "statement_timeout": limits.statement_ms,
        "lock_timeout": limits.lock_ms,
        "default_transaction_read_only": "on" if read_only else "off",
    }
    with translated(), connection.cursor() as cursor:
        for name, value in settings.items():
            cursor.execute("SELECT set_config(%s, %s, false)", (name, str(value)))
        cursor.execute(_NOT_COUNTED_SQL)
        if version >= CLIENT_CHECK_FROM:
            # Not every operating system of a server can do it.
            with contextlib.suppress(psycopg.Error):
                cursor.execute(
                    "SELECT set_config('client_connection_check_interval', %s, false)",
                    (str(CLIENT_CHECK_MS),),
                )


def end(connection: Connection) -> None:
    """Close a connection so that its session holds nothing any more.

    Ctrl-C may leave a statement running, and a connection on which nothing else can be sent,
    not even ROLLBACK.
    """
    with contextlib.suppress(psycopg.Error):
        if connection.info.transaction_status is TransactionStatus.ACTIVE:
            connection.cancel_safe(timeout=CANCEL_S)
    connection.close()
