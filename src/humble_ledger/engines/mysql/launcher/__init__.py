"""Starting a MariaDB server of our own: for the tests, and for scratch work.

`programs` finds the server's programs, `cluster` makes the data folder and waits for the server.
"""

from humble_ledger.engines.mysql.launcher.cluster import MariaCluster
from humble_ledger.engines.mysql.launcher.programs import Programs, find_programs

__all__ = ["MariaCluster", "Programs", "find_programs"]
