"""Every error a user can meet, and the exit code each one ends with.

    HumbleError
    ├── CheckFailed (1)         a check the user asked for came out badly
    ├── WrongUsage (2)          arguments that make no sense together, an unknown id
    ├── Unreachable (3)
    │   ├── TargetUnreachable   the database server cannot be reached or refuses us
    │   └── LedgerUnreachable   no ledger here, or it cannot be opened
    ├── UnreadableInput (4)     a statement, log or plan that cannot be read
    │   └── StatementRejected   the server itself says the statement is wrong
    │       ├── StatementTimedOut (6)   it ran into a time-out
    │       └── LockNotGranted (6)      another session holds what we needed
    ├── RefusedForSafety (5)    we could, but it might do harm
    ├── GaveWay (6)             a trial stepped aside for somebody who waited
    └── Interrupted (130)       Ctrl-C; what was done so far is kept

A message says what happened and to what; the hint says what to do next. Errors of
drivers become one of these at the engine's boundary, with ``raise … from``.
"""

from __future__ import annotations


class HumbleError(Exception):
    """Base of all errors shown to a user: a message, a hint, and an exit code."""

    exit_code = 1
    code = "error"

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint


class CheckFailed(HumbleError):
    """A check the user asked for (limits, `--require`, an audit) did not hold."""

    exit_code = 1
    code = "check-failed"


class WrongUsage(HumbleError):
    """The words of the command are off, or name something that does not exist."""

    exit_code = 2
    code = "wrong-usage"


class Unreachable(HumbleError):
    """A target or the ledger cannot be reached."""

    exit_code = 3
    code = "unreachable"


class TargetUnreachable(Unreachable):
    """The database server does not answer, or does not let us in."""

    code = "target-unreachable"


class LedgerUnreachable(Unreachable):
    """There is no ledger here, or it cannot be opened."""

    code = "ledger-unreachable"


class UnreadableInput(HumbleError):
    """A statement, a log or a plan cannot be read."""

    exit_code = 4
    code = "unreadable-input"


class StatementRejected(UnreadableInput):
    """The server says that the statement is wrong or failed while it ran.

    ``sqlstate`` is the server's five-character code, empty when it gave none; ``said`` its
    own words, ``position`` where in the statement (characters from 0), when it told;
    ``nothing_there`` that what the statement names does not exist.
    """

    code = "statement-rejected"

    def __init__(
        self,
        message: str,
        hint: str = "",
        sqlstate: str = "",
        said: str = "",
        position: int | None = None,
        *,
        nothing_there: bool = False,
    ) -> None:
        super().__init__(message, hint)
        self.sqlstate = sqlstate
        self.nothing_there = nothing_there
        self.said = said or message
        self.position = position


class StatementTimedOut(StatementRejected):
    """The statement ran into the statement timeout."""

    exit_code = 6
    code = "statement-timed-out"


class LockNotGranted(StatementRejected):
    """The lock timeout passed: another session holds a lock we needed."""

    exit_code = 6
    code = "lock-not-granted"


class GaveWay(HumbleError):
    """A trial took its change back before its time, since another session waited for it.

    ``waited_ms`` is for how long.
    """

    exit_code = 6
    code = "gave-way"

    def __init__(self, waited_ms: float) -> None:
        super().__init__(
            f"Another session had waited {waited_ms / 1000:.1f} s for the table, so the index that "
            "was being tried was taken back."
        )


class RefusedForSafety(HumbleError):
    """The program could do this, but it might do harm without a clear wish of the user."""

    exit_code = 5
    code = "refused-for-safety"


class Interrupted(HumbleError):
    """The user pressed Ctrl-C; what was finished before that is kept."""

    exit_code = 130
    code = "interrupted"
