"""Sessions and trials that answer from a recording."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from humble_ledger.capture.places import ServedLog
from humble_ledger.core.costs.contract import CostModel
from humble_ledger.core.routes.exploring import Method
from humble_ledger.core.schema.facts import ServerFacts, TableFacts, TableName
from humble_ledger.core.workload.sampling import ActivityLook
from humble_ledger.engines.contract import (
    Arm,
    Capability,
    Change,
    IndexBuild,
    PlanDocument,
    PlanFormat,
    Running,
    Session,
    Support,
)
from humble_ledger.engines.recorded.answers import Answers, NotRecorded
from humble_ledger.engines.recorded.calls import ARM, SESSION, answer_type, question
from humble_ledger.engines.recorded.codec import decoded, encoded
from humble_ledger.engines.recorded.noting import BEYOND, CANNOT
from humble_ledger.errors import UnreadableInput

# No sample is an answer that the contract knows.
_MAY_BE_NONE = frozenset(("sample_keys", "sample_terms"))
_UNTOLD = Support(
    available=False,
    reason="the recording does not tell whether this server can",
    remedy="Ask the server itself.",
)


class StandIn:
    """See `engines.contract.Session`: what was asked before is answered as it was."""

    def __init__(self, answers: Answers, form: PlanFormat) -> None:
        self._answers = answers
        self._form = form
        self.server: ServerFacts = _value(answers.head.server, ServerFacts, self._plan)

    def __getattr__(self, name: str) -> Any:
        if name not in SESSION:
            raise AttributeError(name)

        def ask(*args: Any, **kwargs: Any) -> Any:
            try:
                found = self._answers.find("", name, question(Session, name, args, kwargs))
            except NotRecorded:
                if name in _MAY_BE_NONE:
                    return None
                raise
            return _value(found, answer_type(Session, name), self._plan)

        return ask

    @property
    def costs(self) -> CostModel:
        """The formulas of such a server, with the settings that it had."""
        return self._form.costs(self.server)

    @property
    def methods(self) -> frozenset[Method]:
        """Those that it was forbidden when it was recorded."""
        asked = (
            (line.get("with") or {}).get("options") or {}
            for found in self._answers.known.values()
            for line in found
            if line.get("ask") == "explain"
        )
        return frozenset(Method(name) for each in asked for name in each.get("forbidden") or ())

    def tables(self, names: Iterable[TableName]) -> Mapping[TableName, TableFacts]:
        """Facts about these tables, of all that any question brought to light."""
        known = self._tables()
        return {name: known[name] for name in names if name in known}

    def user_tables(self) -> Sequence[TableName]:
        """All tables that it knows of."""
        kind = answer_type(Session, "user_tables")
        for each in self._answers.all_of("", "user_tables"):
            found: Sequence[TableName] = _value(each, kind, self._plan)
            return found
        return tuple(self._tables())

    def find_column(self, words: str) -> tuple[TableName, str]:
        """The table, and its column, of those that it knows of.

        Raises:
            NotRecorded: none of them is called so.
        """
        for name, facts in self._tables().items():
            for shown in (name.name, f"{name.schema}.{name.name}"):
                if words == shown:
                    return name, ""
                column = words.removeprefix(f"{shown}.")
                if column != words and column in facts.columns:
                    return name, column
        known = ", ".join(str(name) for name in self._tables())
        raise NotRecorded(f'This recording has no table "{words}".', f"It knows: {known}")

    def _tables(self) -> dict[TableName, TableFacts]:
        known: dict[TableName, TableFacts] = {}
        for each in self._answers.all_of("", "tables"):
            known |= _value(each, answer_type(Session, "tables"), self._plan)
        return known

    def support(self, capability: Capability) -> Support:
        """What the server could do when it was recorded; less what a recording cannot."""
        if capability in BEYOND:
            return CANNOT
        try:
            asked = {"capability": encoded(capability)}
            found: Support = _value(self._answers.find("", "support", asked), Support, self._plan)
        except NotRecorded:
            # Before this was asked, statistics were tried only where it is so.
            before = capability is Capability.UNCOMMITTED_STATISTICS
            return Support() if before else _UNTOLD
        return found

    def require_run(self, statement: Any, *, writes: bool = False) -> None:
        """Nothing is run here: a time that was measured is given again."""

    def side_effects(self, statement: Any, *, writes: bool = False) -> Sequence[Any]:
        """None: nothing is run here."""
        return ()

    def activity(self) -> ActivityLook:
        """Sessions of a moment are not recorded.

        Raises:
            NotRecorded: always.
        """
        raise NotRecorded("A recording has no sessions to look at.", "Ask the server itself.")

    def running(self, session: int) -> Running | None:
        """Nothing runs here."""
        return None

    def logs(self) -> Sequence[ServedLog]:
        """Logs are not recorded.

        Raises:
            NotRecorded: always.
        """
        raise NotRecorded("A recording has no log of its server.", "Capture the log itself.")

    def concurrent_trials(self, mark: str) -> tuple[str, ...]:
        """None."""
        return ()

    def close(self) -> None:
        """Nothing is open."""

    def _plan(self, document: object) -> PlanDocument:
        return PlanDocument(self._form.read(document, self.server_version), document)

    @property
    def server_version(self) -> str:
        """The version of the server that was recorded."""
        return str(self._answers.head.server.get("version", ""))


def _value(found: Any, wanted: Any, plan: Any) -> Any:
    try:
        return decoded(found, wanted, plan)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise UnreadableInput(
            f"An answer of this recording is not as it should be: {error}.",
            "See docs/formats/answers.md.",
        ) from error


class _Side:
    """One arm; ``named`` gives the indexes of the recording the names of this trial."""

    def __init__(self, session: StandIn, answers: Answers, scope: str, named: Any) -> None:
        self._session = session
        self._answers = answers
        self._scope = scope
        self._named = named

    def __getattr__(self, name: str) -> Any:
        if name not in ARM:
            raise AttributeError(name)

        def ask(*args: Any, **kwargs: Any) -> Any:
            found = self._answers.find(self._scope, name, question(Arm, name, args, kwargs))
            if name == "result_rows":
                return iter(tuple(_bytes(each) for each in row) for row in found)
            return _value(self._named(found), answer_type(Arm, name), self._session._plan)

        return ask


def _bytes(value: Any) -> bytes | None:
    return None if value is None else str(value).encode()


class _Pair:
    """Two arms; see `engines.contract.Experiment` and `SequentialExperiment`."""

    def __init__(self, before: _Side, after: _Side, builds: Sequence[IndexBuild]) -> None:
        self.before, self.after, self._builds = before, after, builds
        self._made = False

    @property
    def builds(self) -> Sequence[IndexBuild]:
        """What building took."""
        return self._builds

    @property
    def arm(self) -> _Side:
        """The arm of stages, as it is at this moment."""
        return self.after if self._made else self.before

    def make(self) -> None:
        """From now on with the change."""
        self._made = True

    def unmake(self) -> None:
        """From now on without it."""
        self._made = False

    def local_processes(self) -> tuple[int, ...]:
        """None."""
        return ()

    def lacking(self, name: str) -> Any:
        """Not recorded.

        Raises:
            NotRecorded: always.
        """
        raise NotRecorded("A recording tries no part of a change.", "Ask the server itself.")


@contextmanager
def recorded_trial(answers: Answers, form: PlanFormat, change: Change) -> Iterator[_Pair]:
    """The arms of the trial of this change, as they were recorded.

    Raises:
        NotRecorded: it was not tried when the recording was made.
    """
    wanted = _without_names(encoded(change))
    session = StandIn(answers, form)
    for scope, found in reversed(answers.changes.items()):
        if _without_names(found["asked"].get("change") or {}) != wanted:
            continue
        pairs = list(zip(_names(found["asked"]["change"]), _names(encoded(change)), strict=True))

        def named(value: Any, pairs: list[tuple[str, str]] = pairs) -> Any:
            text = json.dumps(value)
            for old, new in pairs:
                text = text.replace(json.dumps(old)[1:-1], json.dumps(new)[1:-1])
                # Some servers keep names in capitals.
                text = text.replace(json.dumps(old.upper())[1:-1], json.dumps(new.upper())[1:-1])
            return json.loads(text)

        builds = _value(
            named((found["answer"] or {}).get("builds") or []), Sequence[IndexBuild], session._plan
        )
        yield _Pair(
            _Side(session, answers, f"{scope} before", named),
            _Side(session, answers, f"{scope} after", named),
            builds,
        )
        return
    told = "; ".join([*(i.create_sql for i in change.indexes), *change.others]) or "this change"
    raise NotRecorded(
        f"This recording has no trial of: {told[:200]}.",
        "What was not tried on the server when it was made has no result here.",
    )


def _names(change: Mapping[str, Any]) -> list[str]:
    return [str(index.get("name", "")) for index in change.get("indexes") or ()]


def _without_names(change: Mapping[str, Any]) -> str:
    """A change as text in which its new indexes have numbers for names; how it is built does not
    matter.
    """
    kept = {key: value for key, value in change.items() if key in ("indexes", "others", "hidden")}
    kept["indexes"] = [
        {key: index.get(key, "") for key in ("schema", "name", "create_sql")}
        for index in change.get("indexes") or ()
    ]
    text = json.dumps(kept, sort_keys=True)
    for number, name in enumerate(_names(change)):
        text = text.replace(json.dumps(name)[1:-1], f"<{number}>")
    return text
