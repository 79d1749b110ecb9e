"""Alembic's migrations of the ledger, shipped inside the package."""
