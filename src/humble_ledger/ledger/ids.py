"""Ids as people see them: a letter for the kind, and a number that never changes."""

from __future__ import annotations

import re
from enum import StrEnum

_ID = re.compile(r"([kqpsrty])(\d{1,12})")


class Kind(StrEnum):
    """The letter of each kind of entry."""

    CAPTURE = "k"
    QUERY = "q"
    PLAN = "p"
    SYMPTOM = "s"
    REMEDY = "r"
    TRIAL = "t"
    REPLAY = "y"


NAMES = {
    Kind.CAPTURE: "capture",
    Kind.QUERY: "query",
    Kind.PLAN: "plan",
    Kind.SYMPTOM: "symptom",
    Kind.REMEDY: "remedy",
    Kind.TRIAL: "trial",
    Kind.REPLAY: "replay",
}


def parse_id(text: str) -> tuple[Kind, int] | None:
    """An id like "q3" as (QUERY, 3); None when the text is no id."""
    match = _ID.fullmatch(text.strip())
    return (Kind(match[1]), int(match[2])) if match else None


def format_id(kind: Kind, number: int) -> str:
    """(QUERY, 3) as "q3"."""
    return f"{kind.value}{number}"
