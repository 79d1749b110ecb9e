"""Plans of SQL Server, in the XML that its showplan gives (estimated and actual)."""
