"""PostgreSQL as an engine: the contract's methods, each a call into the module that knows."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager

from psycopg import sql

from humble_ledger.engines.contract import Experiment, Hands, Leftovers, Limits
from humble_ledger.engines.postgresql import applying, connection, experiment, leftovers
from humble_ledger.engines.postgresql.session import PostgresSession


class PostgresEngine:
    """See `engines.contract.Engine`."""

    name = "postgresql"

    def public_url(self, url: str) -> str:
        """The URL without its password."""
        return connection.public_url(url)

    def open(self, url: str, limits: Limits = Limits()) -> PostgresSession:  # noqa: B008
        """Open a read-only session."""
        return PostgresSession(url, limits)

    def experiment(
        self,
        url: str,
        statements: Sequence[str],
        names: Sequence[str],
        mark: str,
        limits: Limits = Limits(),  # noqa: B008
        others: Sequence[str] = (),
    ) -> AbstractContextManager[Experiment]:
        """Make changes inside a transaction that only one arm sees; it is rolled back."""
        return experiment.uncommitted_changes(url, statements, names, mark, limits, others)

    def hide_index_sql(self, schema: str, name: str) -> str:
        """The statement that hides an index from the transaction it is run in.

        The planner leaves out indexes that are not valid. Only the catalogue's row is locked:
        readers and writers of the table do not wait, and ROLLBACK undoes it.
        """
        index = sql.Identifier(schema, name).as_string(None)
        where = sql.SQL("indexrelid = {}::regclass").format(sql.Literal(index))
        return f"UPDATE pg_index SET indisvalid = false WHERE {where.as_string(None)}"  # noqa: S608

    def hands(
        self,
        url: str,
        limits: Limits = Limits(),  # noqa: B008
    ) -> AbstractContextManager[Hands]:
        """A connection that may write."""
        return applying.hands(url, limits)

    def leftovers(self, url: str, names: Sequence[str], mark: str) -> Leftovers:
        """What a broken-off trial left on the target."""
        return leftovers.find(url, names, mark)

    def remove_leftovers(self, url: str, left: Leftovers) -> None:
        """Remove them."""
        leftovers.remove(url, left)
