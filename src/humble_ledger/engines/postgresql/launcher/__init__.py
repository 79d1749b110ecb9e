"""Starting a PostgreSQL server of our own: for the demo, the tests, and scratch work.

`binaries` finds a set of programs, `account` settles who runs them, `cluster` makes the
data folder and talks to the server, `supervisor` is the small process that stops the
server when we are gone, however we went.
"""

from humble_ledger.engines.postgresql.launcher.binaries import Binaries, all_binaries, find_binaries
from humble_ledger.engines.postgresql.launcher.cluster import Cluster

__all__ = ["Binaries", "Cluster", "all_binaries", "find_binaries"]
