"""Holding limits against a target: plans asked anew, statements run where a limit needs it."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from dataclasses import dataclass

from humble_ledger.core.limits.judging import UNKNOWN, judge, judge_time, time_words
from humble_ledger.core.limits.model import (
    Checked,
    CheckedStatement,
    CheckOfAll,
    Limited,
    Outcome,
    TimeLimit,
)
from humble_ledger.core.limits.outline import outline
from humble_ledger.core.statements.kinds import Statement
from humble_ledger.core.trials.ratio import FEWEST_PAIRS, RatioInterval, ratio_interval
from humble_ledger.engines.contract import Client, ExplainOptions
from humble_ledger.errors import HumbleError, StatementTimedOut
from humble_ledger.workflow.limiting.file import LimitsFile
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.workspace import Workspace

PAIRS = 12
ERROR_RATE = 0.05
_MARK = "limits"


def check(
    workspace: Workspace, limits: LimitsFile, progress: Progress = lambda _: None
) -> CheckOfAll:
    """Hold every limit of a file against the target; nothing is kept in a ledger.

    A statement that cannot be planned there breaks its limits, with the server's reason.
    """
    checker = _Checker(workspace)
    found = []
    try:
        for number, each in enumerate(limits.limited, 1):
            progress(f"{each.name}, {number} of {len(limits.limited)}")
            found.append(checker.one(each))
    finally:
        checker.close()
    return CheckOfAll(str(limits.path), workspace.public_url, tuple(found), limits.unlimited)


@dataclass(slots=True)
class _Checker:
    """Checks statement after statement; a connection that runs them is opened when needed."""

    workspace: Workspace
    _client: Client | None = None

    def close(self) -> None:
        """Close the connection that ran statements."""
        if self._client is not None:
            self._client.close()
            self._client = None

    def one(self, limited: Limited) -> CheckedStatement:
        session, allowed = self.workspace.session, limited.allowed
        not_run, plan = "", None
        try:
            if allowed.needs_run:
                try:
                    plan = session.explain(limited.statement, ExplainOptions(measure=True)).plan
                except StatementTimedOut:
                    raise  # what does not end keeps no limit
                except HumbleError as error:
                    not_run = error.message.rstrip(".")
            if plan is None:
                plan = session.explain(limited.statement).plan
        except HumbleError as error:
            return CheckedStatement(limited, fault=error.message)
        checks = judge(allowed, plan, not_run)
        if allowed.time is not None:
            checks.append(self._time(limited.statement, allowed.time, not_run))
        return CheckedStatement(limited, tuple(checks), outline(plan))

    def _time(self, statement: Statement, limit: TimeLimit, not_run: str) -> Checked:
        if not_run:
            return Checked("time", Outcome.UNKNOWN, time_words(limit), UNKNOWN, not_run)
        try:
            ratio, median_ms = self._measured(statement, limit)
        except HumbleError as error:
            return Checked("time", Outcome.UNKNOWN, time_words(limit), UNKNOWN, error.message)
        return judge_time(limit, ratio, median_ms)

    def _measured(
        self, statement: Statement, limit: TimeLimit
    ) -> tuple[RatioInterval | None, float]:
        """The ratio of a statement's runs to what they are held against, and their median."""
        if self._client is None:
            self._client = self.workspace.server(_MARK).client(writes=False)
        own = self._timer(statement)
        fixed = limit.at_most_ms if limit.at_most_ms is not None else limit.baseline_ms
        other = self._timer(Statement(limit.beside)) if limit.beside else lambda: fixed or 0.0
        own(), other()  # what comes into the cache first is nobody's fault
        beside: list[float] = []
        runs: list[float] = []
        for number in range(PAIRS):
            for side in (0, 1) if number % 2 else (1, 0):
                (beside if side == 0 else runs).append((other, own)[side]())
        ratio = ratio_interval(beside, runs, ERROR_RATE) if len(runs) >= FEWEST_PAIRS else None
        return ratio, statistics.median(runs)

    def _timer(self, statement: Statement) -> Callable[[], float]:
        client = self._client
        assert client is not None
        # A read-only transaction does not hold back what acts outside of it.
        self.workspace.session.require_run(statement)
        return lambda: max(client.run(statement).elapsed_ms, 1e-3)
