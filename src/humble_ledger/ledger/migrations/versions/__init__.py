"""One module per version of the ledger's tables."""
