"""Reporting: gathering what the ledger tells, for readers who have nothing installed."""
