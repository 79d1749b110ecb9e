"""Alembic's environment: the connection is handed over by `ledger.upgrading`."""

from alembic import context

from humble_ledger.ledger.tables import metadata

connection = context.config.attributes["connection"]
context.configure(
    connection=connection, target_metadata=metadata, render_as_batch=True, transactional_ddl=True
)
with context.begin_transaction():
    context.run_migrations()
