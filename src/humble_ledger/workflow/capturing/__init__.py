"""Capturing: from each kind of source, runs of queries into the ledger."""
