"""The target's schema, by the program that comes with the server for it, into a hollow.

It is loaded by a role that may do nothing beyond its own database: functions of the target run
when an index is built or a statement planned, and whoever made them need not be trusted. What
only a superuser may make (extensions aside, whose files are this machine's own) is left out.
"""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Callable, Sequence

import psycopg

from humble_ledger.core.statements.tokens import split_statements
from humble_ledger.engines.postgresql.connection import Connection, parse
from humble_ledger.engines.postgresql.launcher import Binaries
from humble_ledger.engines.postgresql.one_statement import UserCursor
from humble_ledger.errors import TargetUnreachable

_DUMP_OPTIONS = (
    "--schema-only --no-owner --no-privileges --no-comments --no-security-labels "
    "--no-publications --no-subscriptions --no-tablespaces --quote-all-identifiers "
    "--lock-wait-timeout=2000"
).split()
DUMP_TIMEOUT_S = 60
# How libpq's parameters are called in the environment, where no other user can read them.
_VARIABLES = {
    "host": "PGHOST", "hostaddr": "PGHOSTADDR", "port": "PGPORT", "dbname": "PGDATABASE",
    "user": "PGUSER", "password": "PGPASSWORD", "passfile": "PGPASSFILE", "service": "PGSERVICE",
    "options": "PGOPTIONS", "sslmode": "PGSSLMODE", "sslcert": "PGSSLCERT", "sslkey": "PGSSLKEY",
    "sslrootcert": "PGSSLROOTCERT", "sslcrl": "PGSSLCRL", "sslsni": "PGSSLSNI",
    "channel_binding": "PGCHANNELBINDING", "gssencmode": "PGGSSENCMODE",
    "connect_timeout": "PGCONNECT_TIMEOUT", "target_session_attrs": "PGTARGETSESSIONATTRS",
    "require_auth": "PGREQUIREAUTH", "krbsrvname": "PGKRBSRVNAME",
}  # fmt: skip


def dumped(binaries: Binaries, url: str, section: str) -> list[str]:
    """The statements that make one section of the target's schema: "pre-data" or "post-data".

    Raises:
        TargetUnreachable: the program failed, with what it said.
    """
    return split_statements(dump_text(binaries, url, [*_DUMP_OPTIONS, f"--section={section}"]))


def dump_text(binaries: Binaries, url: str, options: Sequence[str]) -> str:
    """What the server's own program writes of a target, without commands of the terminal client.

    Raises:
        TargetUnreachable: the program failed, with what it said.
    """
    environment = {k: v for k, v in os.environ.items() if not k.startswith("PG")}
    environment |= {k: v for k, v in os.environ.items() if k in ("PGPASSFILE", "PGSERVICEFILE")}
    for name, value in {**_from_environment(), **parse(url)}.items():
        if name in _VARIABLES and value is not None:
            environment[_VARIABLES[name]] = str(value)
    try:
        done = subprocess.run(
            [binaries.program("pg_dump"), *options, "--no-password"],
            env=environment, capture_output=True, check=False, timeout=DUMP_TIMEOUT_S,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as error:
        raise TargetUnreachable(f"The schema could not be read: {error}.") from None
    if done.returncode != 0:
        said = done.stderr.decode(errors="replace").strip().splitlines()
        raise TargetUnreachable(f"The schema could not be read: {(said or ['no reason'])[0]}.")
    text = done.stdout.decode(errors="replace")
    # Newer versions write these round everything.
    lines = (line for line in text.split("\n") if not line.startswith(("\\restrict", "\\unrestr")))
    return "\n".join(lines)


def _from_environment() -> dict[str, str]:
    names = {variable: name for name, variable in _VARIABLES.items()}
    return {names[k]: v for k, v in os.environ.items() if k in names}


# What nothing here may run with a superuser's rights, nor reach out of the hollow with.
_NOT_WANTED = re.compile(r"_fdw$|^dblink$|^adminpack$|^pg_cron$|^pl\w*u$")
_EXTENSION = re.compile(
    r'CREATE EXTENSION IF NOT EXISTS (?:"((?:[^"]|"")+)"|([a-z_][a-z0-9_]*)) '
    r'WITH SCHEMA (?:"(?:[^"]|"")+"|[a-z_][a-z0-9_]*)\s*'
)
# Where things lie, and how long our own statements may take: functions run when indexes are built.
_KEPT_AS_THEY_ARE = (
    "SET default_table", "SET statement_timeout", "SET lock_timeout", "SET transaction_timeout",
    "SET idle_in_transaction",
)  # fmt: skip
# Which policies hold depends on who asks: they are made apart.
_ROW_LEVEL = re.compile(r"CREATE POLICY|ALTER TABLE .* ROW LEVEL SECURITY$")
_OUTWARD = ("CREATE SERVER", "CREATE USER MAPPING", "CREATE FOREIGN ")


def load(
    statements: Sequence[str],
    as_owner: Connection,
    as_superuser: Connection,
    mended: Callable[[psycopg.Error], bool] = lambda _: False,
    enumerated: Callable[[], None] = lambda: None,
) -> list[tuple[str, str]]:
    """Run the statements that make a schema, each for itself; (statement, reason) of those refused.

    ``mended`` may put right what made a statement fail: then it is run again. ``enumerated`` is
    called when an enumeration was made, before anything can use it.
    """
    refused = []
    for statement in statements:
        text = _without_comments(statement)
        if not text or text.startswith(("CREATE EVENT", "ALTER EVENT", "CREATE TRIGGER")):
            continue
        if text.startswith(_KEPT_AS_THEY_ARE) or _ROW_LEVEL.match(text):
            continue
        error = _run(text, as_owner, as_superuser)
        while error is not None and mended(error):
            error = _run(text, as_owner, as_superuser)
        if error is None and text.startswith("CREATE TYPE") and " AS ENUM" in text:
            enumerated()
        if error is not None:
            refused.append((" ".join(text.split())[:200], str(error).split("\n", 1)[0]))
    return refused


def _run(text: str, as_owner: Connection, as_superuser: Connection) -> psycopg.Error | None:
    """Run one statement in the first of its forms that the server takes; why none was."""
    if text.startswith(_OUTWARD):
        return psycopg.errors.FeatureNotSupported("a hollow does not reach out to other servers")
    extension = _EXTENSION.fullmatch(text)
    by = as_owner
    if extension is not None:
        if _NOT_WANTED.search(extension[1] or extension[2]):
            return psycopg.errors.FeatureNotSupported("a hollow does without this extension")
        by = as_superuser
    forms = [text]
    if text.startswith("ALTER TABLE") and "FOREIGN KEY" in text and "NOT VALID" not in text:
        forms.insert(0, f"{text} NOT VALID")  # the hollow's few rows would not meet it
    error: psycopg.Error | None = None
    for form in forms:
        try:
            with UserCursor(by) as cursor:
                cursor.execute(form.encode())
            return None
        except psycopg.Error as said:
            error = said
    return error


def _without_comments(statement: str) -> str:
    body = statement.lstrip()
    while body.startswith("--"):
        body = body.partition("\n")[2].lstrip()
    return body
