"""The ledger as one HTML file that needs nothing else, for readers who have nothing installed."""
