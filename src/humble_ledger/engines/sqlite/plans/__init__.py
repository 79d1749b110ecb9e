"""Plans of SQLite: its listing of steps, read beside the statement they are for."""
