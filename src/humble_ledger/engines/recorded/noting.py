"""A real target that is written down while it is asked: engine, session and trials."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from humble_ledger.core.schema.facts import ServerFacts
from humble_ledger.core.statements.masking import masked, masked_expression
from humble_ledger.engines.contract import (
    Arm,
    Capability,
    Change,
    Engine,
    IndexBuild,
    Limits,
    Server,
    Session,
    Support,
)
from humble_ledger.engines.recorded.answers import FORMAT, VERSION
from humble_ledger.engines.recorded.calls import (
    ARM,
    MASKABLE,
    SESSION,
    masked_question,
    question,
)
from humble_ledger.engines.recorded.codec import DOCUMENT, encoded
from humble_ledger.errors import HumbleError

# What a stand-in cannot do is not done while it is made, so that both go the same way.
BEYOND = (
    Capability.HOLLOW,
    Capability.REPRODUCTION,
    Capability.HIDDEN_INDEX,
)
_NO_LIMITS = Limits()
CANNOT = Support(
    available=False,
    reason="a recording holds answers, and can plan nothing anew",
    remedy="Ask the server itself.",
)


@dataclass(slots=True)
class Notes:
    """The lines of a recording while it grows."""

    mask: Callable[[object], object] | None = None
    lines: list[dict[str, Any]] = field(default_factory=list)
    trials: int = 0

    def add(self, scope: str, name: str, asked: Any, answer: dict[str, Any]) -> None:
        """Write a question with its answer down; masked, when that was asked for."""
        if self.mask is not None:
            if name not in (*MASKABLE, "run", "change"):
                return
            asked, answer = masked_question(name, asked), self._masked(name, answer)
        line = {"in": scope} if scope else {}
        self.lines.append({"ask": name, **line, "with": asked, **answer})

    def _masked(self, name: str, answer: dict[str, Any]) -> dict[str, Any]:
        assert self.mask is not None
        found = answer.get("answer")
        if isinstance(found, dict) and DOCUMENT in found:
            return {"answer": {DOCUMENT: self.mask(found[DOCUMENT])}}
        if name == "tables":
            return {"answer": _masked_facts(found)}
        if "error" in answer:
            return {"error": {
                key: text if key == "code" else masked_expression(str(text))
                for key, text in answer["error"].items()
            }}  # fmt: skip
        return answer

    def write(self, path: Path, head: dict[str, Any]) -> None:
        """Write the file.

        Raises:
            OSError: it cannot be written.
        """
        with path.open("w", encoding="utf-8") as file:
            first = {"format": FORMAT, "version": VERSION, **encoded(head)}
            for line in (first, *self.lines):
                file.write(json.dumps(line, ensure_ascii=False) + "\n")


def _masked_facts(part: Any, key: str = "") -> Any:
    if isinstance(part, dict):
        return {name: _masked_facts(each, name) for name, each in part.items()}
    if isinstance(part, list):
        return [_masked_facts(each, key) for each in part]
    if isinstance(part, str) and key in ("predicate", "definition", "expression"):
        return masked_expression(part)
    return part


def noted(notes: Notes, of: type, scope: str, name: str, call: Callable[..., Any]) -> Any:
    """A call that is written down with its answer, or with the error it ended in."""

    def asked(*args: Any, **kwargs: Any) -> Any:
        what = question(of, name, args, kwargs)
        try:
            found = call(*args, **kwargs)
        except HumbleError as error:
            told = {"code": error.code, "message": error.message, "hint": error.hint}
            notes.add(scope, name, what, {"error": told})
            raise
        if name == "result_rows":
            found = list(found)
            notes.add(scope, name, what, {"answer": [encoded(list(row)) for row in found]})
            return iter(found)
        notes.add(scope, name, what, {"answer": encoded(found)})
        return found

    return asked


class NotingSession:
    """A session whose answers are written down; see `engines.contract.Session`."""

    def __init__(self, real: Session, notes: Notes) -> None:
        self._real = real
        self._notes = notes
        self.server: ServerFacts = real.server

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._real, name)
        if name not in SESSION:
            return found
        return noted(self._notes, Session, "", name, found)

    def support(self, capability: Capability) -> Support:
        """What the server can do, less what a recording cannot."""
        if capability in BEYOND:
            return CANNOT
        found: Support = noted(self._notes, Session, "", "support", self._real.support)(capability)
        return found


@dataclass(slots=True)
class _NotingArm:
    """One side of a trial, whose runs are written down."""

    real: Arm
    notes: Notes
    scope: str

    def __getattr__(self, name: str) -> Any:
        found = getattr(self.real, name)
        return noted(self.notes, Arm, self.scope, name, found) if name in ARM else found


class _NotingExperiment:
    """A pair of arms; see `engines.contract.Experiment`."""

    def __init__(self, real: Any, notes: Notes, scope: str) -> None:
        self._real = real
        self.before = _NotingArm(real.before, notes, f"{scope} before")
        self.after = _NotingArm(real.after, notes, f"{scope} after")

    @property
    def builds(self) -> Sequence[IndexBuild]:
        """What building took."""
        found: Sequence[IndexBuild] = self._real.builds
        return found

    def local_processes(self) -> tuple[int, ...]:
        """None that a recording could be asked about."""
        return ()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)


class _NotingStages:
    """One arm with stages; see `engines.contract.SequentialExperiment`."""

    def __init__(self, real: Any, notes: Notes, scope: str) -> None:
        self._real = real
        self._without = _NotingArm(real.arm, notes, f"{scope} before")
        self._with = _NotingArm(real.arm, notes, f"{scope} after")
        self._made = False

    @property
    def arm(self) -> Any:
        """The arm, as it is at this moment."""
        return self._with if self._made else self._without

    @property
    def builds(self) -> Sequence[IndexBuild]:
        """What building took."""
        found: Sequence[IndexBuild] = self._real.builds
        return found

    def make(self) -> None:
        """Make the change."""
        self._real.make()
        self._made = True

    def unmake(self) -> None:
        """Take it back."""
        self._real.unmake()
        self._made = False


class NotingEngine:
    """An engine whose servers are written down; see `engines.contract.Engine`."""

    def __init__(self, real: Engine, notes: Notes) -> None:
        self._real = real
        self._notes = notes

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)

    def connect(self, url: str, limits: Limits = _NO_LIMITS, mark: str = "") -> Any:
        """A server whose sessions and trials are written down."""
        return _NotingServer(self._real.connect(url, limits, mark), self._notes)


class _NotingServer:
    def __init__(self, real: Server, notes: Notes) -> None:
        self._real = real
        self._notes = notes

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)

    def session(self) -> Any:
        """A session that is written down."""
        return NotingSession(self._real.session(), self._notes)

    @contextmanager
    def experiment(self, change: Change) -> Iterator[Any]:
        """A trial that is written down."""
        with self._real.experiment(change) as real:
            yield _NotingExperiment(real, self._notes, self._noted(change, real.builds))

    @contextmanager
    def stages(self, change: Change, *, online: bool) -> Iterator[Any]:
        """A trial in stages that is written down."""
        with self._real.stages(change, online=online) as real:
            scope = self._noted(change, ())
            found = _NotingStages(real, self._notes, scope)
            yield found
            self._notes.add(scope, "change", {"change": encoded(change)},
                            {"answer": {"builds": encoded(list(found.builds))}})  # fmt: skip

    def _noted(self, change: Change, builds: Sequence[IndexBuild]) -> str:
        self._notes.trials += 1
        scope = f"trial {self._notes.trials}"
        if self._notes.mask is not None:
            others = tuple(masked(text) for text in change.others)
            change = replace(change, others=others)
        self._notes.add(
            scope, "change", {"change": encoded(change)},
            {"answer": {"builds": encoded(list(builds))}},
        )  # fmt: skip
        return scope
