"""MariaDB and MySQL: one family of servers, two members."""
