"""Auditing: the present held against the ledger, promise by promise, query by query."""
