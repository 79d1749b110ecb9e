"""The one store: tables, migrations, and the repository, the only code that knows its SQL."""
