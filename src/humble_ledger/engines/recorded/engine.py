"""The engine of addresses that begin with ``recorded:``; see `engines.contract.Engine`."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.results.suppositions import KeptHollow
from humble_ledger.core.schema.facts import TableName
from humble_ledger.engines.contract import Change, Leftovers, Limits, LogFormat, PlanFormat
from humble_ledger.engines.recorded.answers import Answers, NotRecorded, read
from humble_ledger.engines.recorded.standing_in import StandIn, recorded_trial
from humble_ledger.errors import RefusedForSafety, UnreadableInput

SCHEME = "recorded:"
SHIPPED = Path(__file__).parents[2] / "demo" / "recordings"
_NO_LIMITS = Limits()


def path_of(url: str) -> Path:
    """The file of an address; a bare name that is no file is one that comes with the program."""
    named = url.removeprefix(SCHEME)
    path, shipped = Path(named).expanduser(), SHIPPED / f"{named}.jsonl"
    if not path.exists() and "/" not in named and shipped.exists():
        return shipped
    return path.resolve()


def shipped() -> list[str]:
    """The names of the recordings that come with the program."""
    return sorted(path.stem for path in SHIPPED.glob("*.jsonl"))


class RecordedEngine:
    """A target that answers from a file, under the name of the server that gave the answers."""

    logs: Sequence[LogFormat] = ()

    def __init__(self, url: str, formats: Callable[[str], PlanFormat],
                 dialects: Callable[[str], Dialect]) -> None:  # fmt: skip
        self.path = path_of(url)
        try:
            self.answers: Answers = read(self.path)
        except UnreadableInput as error:
            names = ", ".join(shipped())
            raise UnreadableInput(
                error.message, f"{error.hint} Those that come along: {names}" if names else ""
            ) from error
        self.name = self.answers.head.engine
        self.plans = formats(self.name)
        self.dialect = dialects(self.name)

    @property
    def statements(self) -> Sequence[str]:
        """The statements that it has answers about."""
        return self.answers.head.statements

    def public_url(self, url: str) -> str:
        """The address with the whole path of its file."""
        named = url.removeprefix(SCHEME)
        return url if path_of(url).parent == SHIPPED and "/" not in named else (
            f"{SCHEME}{path_of(url)}"
        )  # fmt: skip

    def not_kept(self, url: str) -> tuple[str, ...]:
        """Nothing is secret in it."""
        return ()

    def connect(self, url: str, limits: Limits = _NO_LIMITS, mark: str = "") -> RecordedServer:
        """The file, in place of a server."""
        return RecordedServer(self.answers, self.plans)

    def kept_hollows(self) -> Sequence[KeptHollow]:
        """None."""
        return ()

    def build_hollow(self, *_: Any, **__: Any) -> Any:
        """Not possible."""
        raise NotRecorded("A recording can plan nothing anew.", "Ask the server itself.")

    def drop_hollows(self, names: Sequence[str] = ()) -> Sequence[str]:
        """None."""
        return ()


class RecordedServer:
    """See `engines.contract.Server`."""

    hollow_holds_rows = False

    def __init__(self, answers: Answers, plans: PlanFormat) -> None:
        self._answers = answers
        self._plans = plans

    def session(self) -> Any:
        """A session that answers from the file."""
        return StandIn(self._answers, self._plans)

    @contextmanager
    def experiment(self, change: Change) -> Iterator[Any]:
        """A trial as it was recorded."""
        with recorded_trial(self._answers, self._plans, change) as found:
            yield found

    @contextmanager
    def stages(self, change: Change, *, online: bool) -> Iterator[Any]:
        """A trial in stages as it was recorded."""
        with recorded_trial(self._answers, self._plans, change) as found:
            yield found

    def write_runs(self, *_: Any, **__: Any) -> Any:
        """Not recorded."""
        raise NotRecorded("Writes are not recorded.", "Ask the server itself.")

    def admin(self) -> Any:
        """Nothing can be changed."""
        raise RefusedForSafety(
            "A recording cannot be changed.", "Apply it on the server that it was made from."
        )

    def client(self, *, writes: bool) -> Any:
        """Not recorded."""
        raise NotRecorded("A replay needs a server that runs.", "Ask the server itself.")

    def hollow(self, *_: Any, **__: Any) -> Any:
        """Not recorded."""
        raise NotRecorded("A recording can plan nothing anew.", "Ask the server itself.")

    def reproduction(self, tables: Sequence[TableName]) -> str:
        """Not recorded."""
        raise NotRecorded("A recording has no schema to write down.", "Ask the server itself.")

    def gathered_for_all(self, change: Change) -> Sequence[str]:
        """None: nothing is made."""
        return ()

    def leftovers(self, indexes: Sequence[tuple[str, str]]) -> Leftovers:
        """Nothing was made."""
        return Leftovers()

    def remove_leftovers(self, left: Leftovers) -> None:
        """Nothing was made."""
