"""Starting a server of our own: for the tests, for scratch work, and for copies of a target.

`programs` finds a server's programs, `cluster` makes the data folder and waits for the server.
"""

from humble_ledger.engines.mysql.launcher.cluster import MariaCluster, MysqlCluster
from humble_ledger.engines.mysql.launcher.programs import (
    Programs,
    find_mysql_programs,
    find_programs,
)

__all__ = ["MariaCluster", "MysqlCluster", "Programs", "find_mysql_programs", "find_programs"]
