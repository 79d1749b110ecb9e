"""WHAT of a command: an id, SQL text, @file, - or a saved plan, to something to work on."""

from __future__ import annotations

import codecs
import re
import sys
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import IO

from humble_ledger.core.entries import PlanEntry
from humble_ledger.core.statements.kinds import Statement, one_statement, require_plan
from humble_ledger.engines.registry import plan_formats
from humble_ledger.errors import UnreadableInput, WrongUsage
from humble_ledger.ledger.ids import NAMES, Kind, parse_id
from humble_ledger.ledger.repository import Ledger
from humble_ledger.workflow.reading.saved import SavedDocument, saved_in
from humble_ledger.workflow.workspace import Workspace

MIB = 1024 * 1024
_ENCODINGS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_ONE_OF_SEVERAL = re.compile(r"^(?P<place>.+)#(?P<number>\d{1,4})$")
SQL_STARTS = frozenset(
    "select with insert update delete merge values table explain create alter drop".split()
)


@dataclass(frozen=True, slots=True)
class Subject:
    """What a word of the command line stands for; exactly one of the last three is set.

    ``query`` is a query's id; ``statement`` is what to send for it; ``saved`` are the plans of a
    document.
    """

    query: str | None = None
    statement: Statement | None = None
    plan: PlanEntry | None = None
    saved: SavedDocument | None = None


def subject_of(workspace: Workspace, what: str) -> Subject:
    """Resolve a word: q3, p7, s2 (its plan's query), SQL text, @file, or - for standard input.

    Of a document with several plans, FILE#2 is the second.

    Raises:
        WrongUsage: an id the ledger does not have, or of a kind that has no plan.
        UnreadableInput: a file that is not there, no statement or several.
    """
    parsed = parse_id(what)
    if parsed is not None:
        return _by_id(workspace.ledger, parsed[0], what)
    place, number = _numbered(what)
    text = _text_of(place)
    saved = saved_in(text, number)
    if saved is not None:
        return Subject(saved=saved)
    if number is not None:
        raise UnreadableInput(f"{place} holds no saved plan.", "FILE#2 names one plan of several.")
    sql = one_statement(workspace.readable(text))
    require_plan(sql)
    return Subject(statement=Statement(sql))


def saved_subject(what: str) -> SavedDocument | None:
    """The plans of a document, when WHAT names one; None for everything else."""
    if parse_id(what) is not None:
        return None
    place, number = _numbered(what)
    return saved_in(_text_of(place), number)


def _numbered(what: str) -> tuple[str, int | None]:
    """FILE#2 taken apart; what is a file itself, or no file at all, stays whole."""
    found = _ONE_OF_SEVERAL.match(what)
    if found is None or _is_file(what):
        return what, None
    place = found["place"]
    named = place == "-" or _is_file(place)
    return (place, int(found["number"])) if named else (what, None)


def _is_file(what: str) -> bool:
    """Whether words name a file; a statement may be no name that a system knows."""
    try:
        return Path(what.removeprefix("@")).is_file()
    except (OSError, ValueError):
        return False


def _by_id(ledger: Ledger, kind: Kind, id_: str) -> Subject:
    if kind is Kind.QUERY:
        return Subject(query=id_, statement=ledger.queries.example(id_))
    if kind is Kind.PLAN:
        return Subject(plan=ledger.plans.get(id_))
    if kind is Kind.SYMPTOM:
        symptom = ledger.symptoms.get(id_)
        if symptom.plan is not None:
            return Subject(plan=ledger.plans.get(symptom.plan))
        assert symptom.query is not None  # of a plan, or of a query's runs
        return _by_id(ledger, Kind.QUERY, symptom.query)
    raise WrongUsage(
        f"{id_} is a {NAMES[kind]}; a query, a plan or a statement is wanted here.",
        f"To see it:  humble show {id_}",
    )


def text_of(path: Path) -> str:
    """The text of a file.

    Raises:
        UnreadableInput: it cannot be read, or is larger than any plan that is.
    """
    try:
        with path.open("rb") as file:
            return _text_from(file)
    except OSError as error:
        raise UnreadableInput(
            f"The file {path} cannot be read: {error.strerror}.", "Check its path."
        ) from error


def _text_from(file: IO[bytes]) -> str:
    """All of a file, which is not read further than anything in it could be used."""
    most = max(form.most_bytes for form in plan_formats())
    data = file.read(most + 1)
    if len(data) > most:
        raise UnreadableInput(
            f"The text has more than {most // MIB} MiB; a larger one is not read.",
            "Is it one plan or one statement? A log is read by  humble capture log",
        )
    return _decoded(data).replace("\r\n", "\n")


@lru_cache(maxsize=1)
def _standard_input() -> str:
    """What came on standard input: it can be read once, and may be asked for twice."""
    return _text_from(sys.stdin.buffer)


def _decoded(data: bytes) -> str:
    """A text by the mark at its beginning: some tools save plans in UTF-16."""
    for mark, encoding in _ENCODINGS:
        if data.startswith(mark):
            return data[len(mark) :].decode(encoding, "replace")
    return data.decode("utf-8", "replace")


def _text_of(what: str) -> str:
    if what == "-":
        return _standard_input()
    if what.startswith("@"):
        return text_of(Path(what[1:]))
    first = what.split(maxsplit=1)[0].lower().strip("(") if what.strip() else ""
    if first not in SQL_STARTS and _is_file(what):
        return text_of(Path(what))
    return what
