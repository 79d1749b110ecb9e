"""The servers we can talk to: one contract, one package per kind of server."""
