"""Plans that the server's own plan logger wrote: the statement, its values, the plan's text."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import msgspec

from humble_ledger.core.statements.kinds import Statement

_QUERY_TEXT = "Query Text: "
# The first line of a plan in text form has its costs.
_PLAN_START = re.compile(r"^\S[^\n]*  \(cost=\d+\.\d\d\.\.\d", re.MULTILINE)
_PARAMETERS_LINE = re.compile(r"\n(?:Query )?Parameters: ([^\n]*)\Z")
_PARAMETERS = re.compile(r"[Pp]arameters: (?P<list>\$1 = .*)", re.DOTALL)
# The protocol carries 65,535 values at most: what has a larger number is no parameter.
_PARAMETER = re.compile(r"\$(\d{1,5}) = (NULL|'(?:[^']|'')*')(?:, )?", re.DOTALL)


@dataclass(frozen=True, slots=True)
class LoggedPlan:
    """A plan as the log has it: its statement, and the JSON document or the text."""

    statement: Statement
    document: Mapping[str, object] | None
    text: str


def logged_plan(entry: str) -> LoggedPlan | None:
    """What stands behind "plan:" in a log; None when it cannot be read.

    JSON and text are read, the logger's YAML and XML are not.
    """
    if entry.startswith("{"):
        try:
            document = msgspec.json.decode(entry)
        except (msgspec.DecodeError, RecursionError):
            return None
        if not isinstance(document, dict) or "Plan" not in document:
            return None
        sql = str(document.get("Query Text", "")).strip()
        values = _listed(str(document.get("Query Parameters", "")))
        return LoggedPlan(Statement(sql, values), document, "")
    start = _PLAN_START.search(entry)
    if start is None or not entry.startswith(_QUERY_TEXT):
        return None
    sql = entry[len(_QUERY_TEXT) : start.start()].rstrip()
    parameters = _PARAMETERS_LINE.search(sql)
    if parameters is not None:
        sql = sql[: parameters.start()]
    values = _listed(parameters[1]) if parameters else ()
    return LoggedPlan(Statement(sql.strip(), values), None, entry[start.start() :])


def values_of(detail: str) -> tuple[str | None, ...]:
    """The values in a DETAIL "Parameters: $1 = '7', $2 = NULL"."""
    match = _PARAMETERS.match(detail) if detail else None
    return _listed(match["list"]) if match is not None else ()


def _listed(text: str) -> tuple[str | None, ...]:
    values = {int(m[1]): _value(m[2]) for m in _PARAMETER.finditer(text)}
    return tuple(values.get(n) for n in range(1, max(values, default=0) + 1))


def _value(text: str) -> str | None:
    return None if text == "NULL" else text[1:-1].replace("''", "'")
