"""A connection with the limits of a session, and what the server behind it is."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import pymysql
from pymysql.cursors import Cursor, SSCursor

from humble_ledger.engines.contract import APPLICATION_NAME, Limits
from humble_ledger.engines.mysql.address import Address, address_of
from humble_ledger.engines.mysql.faults import translated, unreachable
from humble_ledger.errors import HumbleError

_VERSION = re.compile(r"(\d+)\.(\d+)\.(\d+)")
CONNECT_S = 10
# The server's own limit comes first; this is for one that does not answer at all.
_READ_GRACE_S = 30
_BATCH = 1_000
# What we ask is nobody's slow query: a threshold of a year, and of more rows than there are.
_UNLOGGED = "SET SESSION long_query_time = 31536000, SESSION min_examined_row_limit = 4294967295"
_UNCOUNTED = (
    "UPDATE performance_schema.threads SET INSTRUMENTED = 'NO' "
    "WHERE PROCESSLIST_ID = CONNECTION_ID()"
)
BUILD_TIMEOUT_MS = 3_600_000


@dataclass(frozen=True, slots=True)
class Member:
    """Which member of the family a server is, and its version as a number (101118)."""

    mariadb: bool
    version: str
    number: int

    @property
    def name(self) -> str:
        """What it is called."""
        return "MariaDB" if self.mariadb else "MySQL"

    def has(self, mariadb: int | None, mysql: int | None) -> bool:
        """Whether it is as new as this; None where that member never has it."""
        least = mariadb if self.mariadb else mysql
        return least is not None and self.number >= least


def member_of(said: str) -> Member:
    """The member by what ``SELECT version()`` says, as "10.11.18-MariaDB-0+deb12u1"."""
    found = _VERSION.search(said)
    mariadb = "mariadb" in said.lower()
    if found is None:
        return Member(mariadb, said, 0)
    major, minor, patch = (int(part) for part in found.groups())
    return Member(mariadb, found[0], major * 10_000 + minor * 100 + patch)


class Connection:
    """One connection. Each text sent is one statement: the protocol is told to allow no more."""

    def __init__(self, raw: Any, member: Member, address: Address, limits: Limits) -> None:
        self.raw = raw
        self.member = member
        self.address = address
        self.limits = limits
        self.modes = ""

    @property
    def number(self) -> int:
        """What the server calls this connection."""
        return int(self.raw.thread_id())

    def rows(self, sql: str) -> Sequence[tuple[Any, ...]]:
        """Send a statement as it is written and fetch what comes."""
        with translated(), self.raw.cursor(Cursor) as cursor:
            cursor.execute(sql)
            found: Sequence[tuple[Any, ...]] = cursor.fetchall()
        return found

    def asked(self, sql: str, *values: object) -> Sequence[tuple[Any, ...]]:
        """Send a statement of ours with values for its %s."""
        with translated(), self.raw.cursor(Cursor) as cursor:
            cursor.execute(sql, values)
            found: Sequence[tuple[Any, ...]] = cursor.fetchall()
        return found

    def one(self, sql: str, *values: object) -> Any:
        """The first value of the first row; None when none comes."""
        found = self.asked(sql, *values) if values else self.rows(sql)
        return found[0][0] if found else None

    def do(self, sql: str) -> int:
        """Run a statement; the rows it changed."""
        with translated(), self.raw.cursor(Cursor) as cursor:
            return int(cursor.execute(sql))

    def stream(self, sql: str) -> Any:
        """A cursor whose rows come while they are read."""
        with translated():
            cursor = self.raw.cursor(SSCursor)
            cursor.execute(sql)
        return cursor

    def fetched(self, cursor: Any) -> Sequence[tuple[Any, ...]]:
        """The next rows of a cursor that is read while they come; none at its end."""
        with translated():
            rows = cursor.fetchmany(_BATCH) if cursor.description else ()
            found: Sequence[tuple[Any, ...]] = rows
        return found

    def finished(self, cursor: Any) -> None:
        """Read what is left, and let the connection do something else."""
        with translated():
            cursor.close()

    def patience(self, milliseconds: int) -> None:
        """Limit each further statement of this session."""
        if self.member.mariadb:
            self.do(f"SET SESSION max_statement_time = {milliseconds / 1000:.3f}")
        else:
            self.do(f"SET SESSION max_execution_time = {int(milliseconds)}")
        seconds = int(milliseconds / 1000) + _READ_GRACE_S
        self.raw._read_timeout = seconds  # the driver has no other way to change it

    def close(self) -> None:
        """End it, whatever state it is in."""
        try:
            self.raw.close()
        except pymysql.Error:
            self.raw._force_close()


def connect(
    url: str, limits: Limits, *, mark: str = "", read_only: bool = True, database: bool = True
) -> Connection:
    """Open a connection; ``mark`` is part of the name that it goes by.

    Raises:
        TargetUnreachable: nobody answers, or we are not let in.
    """
    address = address_of(url)
    name = f"{APPLICATION_NAME} {mark}".strip()
    ssl: dict[str, str] = {}
    if address.ssl_ca or address.ssl_cert or address.ssl:
        parts = {"ca": address.ssl_ca, "cert": address.ssl_cert, "key": address.ssl_key}
        ssl = {name: value for name, value in parts.items() if value} or {"check_hostname": ""}
    try:
        raw = pymysql.connect(
            host=address.host,
            port=address.port,
            unix_socket=address.socket or None,
            user=address.user,
            password=address.password,
            database=(address.database or None) if database else None,
            charset=address.charset,
            connect_timeout=CONNECT_S,
            read_timeout=int(limits.statement_ms / 1000) + _READ_GRACE_S,
            autocommit=True,
            local_infile=False,
            program_name=name,
            init_command=_UNLOGGED,
            ssl=ssl or None,
            # Only to offer TLS, the driver reads all certificates of the system each time.
            ssl_disabled=bool(address.socket) and not ssl,
            conv=_CONVERSIONS,
        )
    except (pymysql.Error, OSError, RuntimeError, LookupError) as error:
        raise unreachable(address.place, error, address.password) from error
    connection = Connection(raw, member_of(""), address, limits)
    try:
        with contextlib.suppress(HumbleError):  # where we have the right to
            connection.do(_UNCOUNTED)
        # The greeting has a version of its own, for clients that know no higher one.
        connection.member = member_of(str(connection.one("SELECT VERSION()")))
        connection.patience(limits.statement_ms)
        seconds = max(1, round(limits.lock_ms / 1000))
        connection.do(f"SET SESSION lock_wait_timeout = {seconds}")
        connection.do(f"SET SESSION innodb_lock_wait_timeout = {seconds}")
        connection.modes = str(connection.one("SELECT @@SESSION.sql_mode"))
        if connection.member.mariadb:
            with contextlib.suppress(HumbleError):  # from 10.6.16 and 10.11.6 on
                connection.do("SET SESSION note_verbosity = 'basic,explain,unusable_keys'")
        if read_only:
            connection.do("SET SESSION TRANSACTION READ ONLY")
    except BaseException:
        connection.close()
        raise
    return connection


# Values come as the server writes them: times and decimals are compared, never reckoned with.
_CONVERSIONS: dict[Any, Any] = {
    **{kind: pymysql.converters.encoders[kind] for kind in pymysql.converters.encoders},
    pymysql.constants.FIELD_TYPE.TINY: int,
    pymysql.constants.FIELD_TYPE.SHORT: int,
    pymysql.constants.FIELD_TYPE.LONG: int,
    pymysql.constants.FIELD_TYPE.LONGLONG: int,
    pymysql.constants.FIELD_TYPE.INT24: int,
    pymysql.constants.FIELD_TYPE.FLOAT: float,
    pymysql.constants.FIELD_TYPE.DOUBLE: float,
    pymysql.constants.FIELD_TYPE.DECIMAL: float,
    pymysql.constants.FIELD_TYPE.NEWDECIMAL: float,
}
