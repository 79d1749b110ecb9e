"""Facts about servers, tables, columns and indexes, as engines hand them over."""
