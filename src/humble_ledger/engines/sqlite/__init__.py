"""SQLite: a database in one file, without a server."""
