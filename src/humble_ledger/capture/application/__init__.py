"""What applications record of their statements: our own log, and spans of traces.

Both are JSON, an object on each line, and are recognised before any server's log.
"""

from humble_ledger.capture.application.spans import SpanLog
from humble_ledger.capture.application.statement_log import StatementLog
from humble_ledger.capture.application.told_rows import APPLICATION
from humble_ledger.engines.contract.logs import LogFormat

APPLICATION_LOGS: tuple[LogFormat, ...] = (StatementLog(), SpanLog())

__all__ = ["APPLICATION", "APPLICATION_LOGS"]
