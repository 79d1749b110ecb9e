"""The file of questions and answers: JSON Lines, described in docs/formats/answers.md."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from humble_ledger.engines.recorded.calls import MEASURED, key_of, masked_question
from humble_ledger.errors import (
    HumbleError,
    LockNotGranted,
    RefusedForSafety,
    StatementRejected,
    StatementTimedOut,
    TargetUnreachable,
    UnreadableInput,
    WrongUsage,
)

FORMAT = "humble-ledger-answers"
VERSION = 1
MOST_BYTES = 256 * 1024**2
_HINT = "See docs/formats/answers.md; make one with  humble record FILE"


class NotRecorded(StatementRejected):
    """Nobody asked this when the file was made."""

    code = "not-recorded"


@dataclass(frozen=True, slots=True)
class Head:
    """What the file says of itself: whose answers they are, and for which statements."""

    engine: str
    server: Mapping[str, Any]
    statements: tuple[str, ...] = ()
    masked: bool = False
    made_at: str = ""
    invented: bool = False


@dataclass(slots=True)
class Answers:
    """All answers of a file, by question; those of measured runs in their order.

    ``changes`` are the trials that were recorded, each with its arms' answers.
    """

    head: Head
    known: dict[tuple[str, str], list[Any]] = field(default_factory=dict)
    changes: dict[str, Any] = field(default_factory=dict)
    turns: dict[tuple[str, str], int] = field(default_factory=dict)

    def find(self, scope: str, name: str, asked: Any) -> Any:
        """The answer to a question; one that a server refused is refused again.

        Raises:
            NotRecorded: nobody asked this, or a run was not measured as often.
        """
        if self.head.masked:
            asked = masked_question(name, asked)
        place = (scope, key_of(name, asked))
        found = self.known.get(place)
        if found is None:
            raise NotRecorded(
                f"This recording has no answer to: {_told(name, asked)}.",
                "What was not asked of the server when it was made nobody can tell.",
            )
        turn = self.turns.get(place, 0)
        if turn >= len(found) and name in MEASURED:
            raise NotRecorded(
                f"This recording has {len(found)} answers to: {_told(name, asked)}; one more was "
                "asked for.",
                "A run that was not measured has no time.",
            )
        self.turns[place] = turn + 1
        answer = found[min(turn, len(found) - 1)]
        if isinstance(answer, Mapping) and "error" in answer:
            raise _error(answer["error"])
        return answer.get("answer") if isinstance(answer, Mapping) else None

    def all_of(self, scope: str, name: str) -> Iterator[Any]:
        """Every answer to questions of a name, whatever was asked."""
        for (where, key), found in self.known.items():
            if where == scope and json.loads(key)[0] == name:
                yield from (each["answer"] for each in found if "answer" in each)


def _told(name: str, asked: Any) -> str:
    words = name.replace("_", " ")
    statement = asked.get("statement") if isinstance(asked, Mapping) else None
    if isinstance(statement, Mapping):
        measured = (asked.get("options") or {}).get("measure") or asked.get("measure")
        return f"{words} of {' '.join(str(statement.get('sql')).split())[:120]}" + (
            " (measured)" if measured else ""
        )
    told = ", ".join(f"{key} {json.dumps(value)[:60]}" for key, value in asked.items())
    return f"{words} ({told})" if told else words


_ERRORS = {
    kind.code: kind
    for kind in (
        UnreadableInput, StatementRejected, StatementTimedOut, LockNotGranted, TargetUnreachable,
        RefusedForSafety, WrongUsage,
    )
}  # fmt: skip


def _error(told: Mapping[str, Any]) -> HumbleError:
    kind = _ERRORS.get(str(told.get("code")), StatementRejected)
    return kind(str(told.get("message", "")), str(told.get("hint", "")))


def read(path: Path) -> Answers:
    """The answers in a file.

    Raises:
        UnreadableInput: it cannot be read, or a line is no answer; tells which.
    """
    try:
        if path.stat().st_size > MOST_BYTES:
            raise UnreadableInput(f"{path} is larger than {MOST_BYTES // 1024**2} MiB.", _HINT)
        lines = path.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise UnreadableInput(f"The recording {path} cannot be read: {error}.", _HINT) from error
    if not lines:
        raise UnreadableInput(f"The recording {path} is empty.", _HINT)
    found = Answers(_head(_line(lines[0], path, 1), path))
    for number, text in enumerate(lines[1:], 2):
        if text.strip():
            _add(found, _line(text, path, number), path, number)
    return found


def _line(text: str, path: Path, number: int) -> Mapping[str, Any]:
    try:
        found = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise UnreadableInput(f"Line {number} of {path} is no JSON: {error}.", _HINT) from error
    if not isinstance(found, Mapping):
        raise UnreadableInput(f"Line {number} of {path} is no object.", _HINT)
    return found


def _head(raw: Mapping[str, Any], path: Path) -> Head:
    if raw.get("format") != FORMAT or raw.get("version") != VERSION:
        raise UnreadableInput(
            f"{path} does not begin as a recording of version {VERSION} does.", _HINT
        )
    server, engine = raw.get("server"), raw.get("engine")
    if not isinstance(server, Mapping) or not isinstance(engine, str):
        raise UnreadableInput(f"{path} names no engine, or tells nothing of its server.", _HINT)
    return Head(
        engine,
        server,
        tuple(str(each) for each in raw.get("statements") or ()),
        bool(raw.get("masked")),
        str(raw.get("made_at", "")),
        bool(raw.get("invented")),
    )


def _add(into: Answers, raw: Mapping[str, Any], path: Path, number: int) -> None:
    name, scope = raw.get("ask"), raw.get("in", "")
    asked = raw.get("with", {})
    if not isinstance(name, str) or not isinstance(asked, Mapping) or not isinstance(scope, str):
        raise UnreadableInput(f'Line {number} of {path} has no "ask" with its "with".', _HINT)
    if "answer" not in raw and "error" not in raw:
        raise UnreadableInput(f"Line {number} of {path} has neither answer nor error.", _HINT)
    if name == "change":
        into.changes[scope] = {"asked": asked, "answer": raw.get("answer")}
        return
    into.known.setdefault((scope, key_of(name, asked)), []).append(raw)
