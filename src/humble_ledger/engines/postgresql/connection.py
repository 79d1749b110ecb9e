"""Opening a connection the way PostgreSQL's users expect, and safe from the first moment."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlencode

import psycopg
from psycopg import conninfo
from psycopg.pq import TransactionStatus
from psycopg.rows import TupleRow

from humble_ledger.engines.contract import APPLICATION_NAME, HOLLOW_SCHEME, Limits
from humble_ledger.engines.postgresql.faults import translated, unreachable
from humble_ledger.engines.postgresql.one_statement import OwnCursor
from humble_ledger.errors import WrongUsage


class Connection(psycopg.Connection[TupleRow]):
    """A connection that keeps apart where we look for names and where the user does.

    Whoever may create functions or operators in a schema of the path can shadow the server's own
    for certain types, and would have our questions run theirs with our rights. So the session looks
    in `pg_catalog` alone; ``users_path`` is set for the statements of users, inside the
    transactions they run in.
    """

    users_path: str = ""

    def look_as_the_user(self) -> None:
        """Look for names where the user does, until the end of the transaction."""
        self.execute("SELECT pg_catalog.set_config('search_path', %s, true)", (self.users_path,))


CONNECT_TIMEOUT_S = 10
CANCEL_S = 5.0
OLDEST_SUPPORTED = 130000
# Notice within this time, also in the middle of a statement, that our process is gone.
CLIENT_CHECK_MS = 2_000
CLIENT_CHECK_FROM = 140000


def no_rows(place: str) -> WrongUsage:
    """What is said when something is asked of a copy without rows that takes rows."""
    return WrongUsage(
        f"{place} is a copy without rows: nothing can be run, built or measured on it.",
        "Name a target that has rows with --target URL.",
    )


def parse(url: str) -> dict[str, Any]:
    """The connection parameters of a URL or of "key=value" text.

    Raises:
        WrongUsage: it is neither.
    """
    if url.startswith(HOLLOW_SCHEME):
        raise no_rows(url)
    try:
        parts = dict(conninfo.conninfo_to_dict(url))
    except psycopg.Error as error:
        # The driver may quote any part of the address, and so of a password.
        said = _QUOTED_PART.sub("…", str(error).strip().splitlines()[0]).partition(":")[0]
        raise _not_an_address(said or "it is neither a URL nor key=value text") from None
    if fault := _misread(url, parts):
        raise _not_an_address(fault)
    return parts


def _not_an_address(why: str) -> WrongUsage:
    return WrongUsage(
        f"The target's address cannot be read: {why}.",
        "Write it like  postgresql://user@host:5432/database  or  service=name , with the password "
        "elsewhere: in ~/.pgpass or PGPASSWORD.",
    )


def _misread(url: str, parts: Mapping[str, Any]) -> str:
    """What tells that an unescaped character of a password broke the address; "" when nothing.

    A password with / @ or % in it ends early for the client library, and its rest would be taken
    for a host, a port or a database, and shown as such.
    """
    _, scheme, rest = url.partition("://")
    behind = rest.partition("/")[2].partition("?")[0] if scheme else ""
    host, port = str(parts.get("host") or ""), str(parts.get("port") or "")
    inner = str(parts.get("dbname") or "")
    if "@" in behind or "@" in host or not _PORTS.fullmatch(port) or "://" in inner:
        return (
            "a character in it stands in the wrong place, as one of a password would that is not "
            "written with % (%40 for @, %2F for /, %25 for %)"
        )
    return ""


_QUOTED_PART = re.compile(r"\".*\"", re.DOTALL)
_PORTS = re.compile(r"[0-9]*(?:,[0-9]*)*")
# What may be stored and shown. All else may be a secret, or lead to one.
_SHOWN = frozenset(
    """application_name channel_binding client_encoding connect_timeout dbname gssencmode host
    hostaddr keepalives keepalives_count keepalives_idle keepalives_interval load_balance_hosts
    port require_auth service ssl_max_protocol_version ssl_min_protocol_version sslcert
    sslcrl sslkey sslmode sslnegotiation sslrootcert sslsni target_session_attrs
    tcp_user_timeout user""".split()
)


def public_url(url: str) -> str:
    """The address with nothing but what may be stored and shown.

    One that holds nothing else stays as it was written, so that a service or an empty host still
    means what the environment says.
    """
    parts = parse(url)
    shown = {key: str(value) for key, value in parts.items() if key in _SHOWN}
    if len(shown) == len(parts):
        return url
    if "://" not in url:
        return conninfo.make_conninfo("", **shown)
    user, database = shown.pop("user", ""), shown.pop("dbname", "")
    hosts, ports = shown.pop("host", "").split(","), shown.pop("port", "").split(",")
    ports += ports[:1] * (len(hosts) - len(ports))
    place = ""
    if any("/" in host for host in hosts):  # a socket's folder
        shown |= {"host": ",".join(hosts)} | ({"port": ",".join(ports)} if any(ports) else {})
    else:
        named = zip((_bracketed(host) for host in hosts), ports, strict=False)
        place = ",".join(f"{host}:{port}" if port else host for host, port in named)
    at = f"{quote(user, safe='')}@" if user else ""
    query = urlencode(shown, quote_via=quote)
    path = f"/{quote(database, safe='')}" if database or query else ""
    return f"postgresql://{at}{place}{path}{f'?{query}' if query else ''}"


def not_kept(url: str) -> tuple[str, ...]:
    """The parameters of an address that `public_url` leaves out, without their values."""
    return tuple(sorted(parse(url).keys() - _SHOWN))


def _bracketed(host: str) -> str:
    return f"[{host}]" if ":" in host else quote(host, safe="")


def place_of(url: str) -> str:
    """Where a URL leads, in a few words for messages: "skerry on 127.0.0.1:5432"."""
    parts = parse(url)
    if "service" in parts:
        return f"service {parts['service']}"
    host, port = parts.get("host") or "the default host", parts.get("port")
    database = parts.get("dbname") or "the default database"
    return f"{database} on {host}{f':{port}' if port else ''}"


def connect(
    url: str,
    limits: Limits,
    *,
    mark: str = "",
    read_only: bool = True,
    as_the_user: bool = False,
) -> Connection:
    """A connection with time-outs, a name, and read-only unless a trial needs more.

    With ``as_the_user`` names are looked for where the user does, also outside of transactions:
    for connections on which nothing but a user's statements is run.

    ``mark`` goes into the application name, so that a session of a broken-off trial can be
    told from all others.

    Raises:
        TargetUnreachable: no connection, with the server's reason.
        WrongUsage: the address cannot be read, or the server is too old.
    """
    parts = parse(url)
    name = f"{APPLICATION_NAME} {mark}".strip()
    try:
        connection = Connection.connect(
            url,
            autocommit=True,
            prepare_threshold=None,  # a prepared statement may be given a generic plan
            application_name=name,
            connect_timeout=int(parts.get("connect_timeout") or CONNECT_TIMEOUT_S),
            cursor_factory=OwnCursor,
        )
    except psycopg.OperationalError as error:
        secrets = [str(v) for k, v in parts.items() if k not in _SHOWN]
        raise unreachable(
            place_of(url), error, [*secrets, os.environ.get("PGPASSWORD", "")]
        ) from None
    try:
        _require_postgresql(connection)
        _settle_path(connection, as_the_user)
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


def _settle_path(connection: Connection, as_the_user: bool) -> None:
    with translated():
        # A command, which nobody can shadow.
        row = connection.execute("SHOW search_path").fetchone()
        assert row is not None
        connection.users_path = str(row[0])
        if not as_the_user:
            connection.execute("SET search_path = pg_catalog")


class AnotherServer(WrongUsage):
    """It speaks the protocol and is another server: see `engines.postgresql.others`."""

    def __init__(self, version: str) -> None:
        super().__init__(
            f"This server speaks PostgreSQL's protocol and is another ({version}): plans of it can "
            "be read, and nothing is built or tried on it.",
            "Make the change on a test database yourself, and compare the plans.",
        )


# As PostgreSQL tells its version at the beginning of a session: "15.4", "15.4 (Debian 15.4-1)",
# "18beta1"; what distributions of it tell has more behind.
_OWN_VERSION = re.compile(r"\d+(?:\.\d+|beta\d+|rc\d+|devel)(?: .*)?")
# And where that is not so, when it is asked: "PostgreSQL 15.4 (… 15.4.0) on x86_64-pc-linux-gnu".
_OWN_WORDS = re.compile(r"PostgreSQL \d+(?:\.\d+)?(?: \([^)]*\))? on ")


def says_postgresql(connection: psycopg.Connection[TupleRow]) -> bool:
    """Whether a server says of itself that it is PostgreSQL, and not another of that protocol."""
    told = connection.info.parameter_status("server_version") or ""
    if _OWN_VERSION.fullmatch(told) is not None:
        return True
    try:
        row = connection.execute("SELECT version()").fetchone()
    except psycopg.Error:
        return False
    return row is not None and _OWN_WORDS.match(str(row[0])) is not None


def _require_postgresql(connection: Connection) -> None:
    if not says_postgresql(connection):
        raise AnotherServer(connection.info.parameter_status("server_version") or "no version")


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
