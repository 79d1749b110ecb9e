"""Humble Ledger: find slow queries, try a change fairly, and keep the evidence."""

__version__ = "0.1.0"
