"""Limits in version control: read and written, proposed from the ledger, held against a target."""
