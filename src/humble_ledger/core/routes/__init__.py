"""The other ways a server could run a statement, and what decides between them."""
