"""PostgreSQL's server log: plain lines, CSV and JSON."""
