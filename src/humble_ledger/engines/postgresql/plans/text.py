"""PostgreSQL's EXPLAIN in text form to the document its JSON form would have been.

The text is read as people have it: as the server wrote it, as a client framed it (heading,
rulers, `+` at line ends, row count), or as the server's plan logger put it into the log.

Steps nest by the column of their arrow: what belongs to a step stands six columns behind its
arrow (two for the first step, which has none).
"""

from __future__ import annotations

import re
from typing import Any

from humble_ledger.core.plans.limits import MOST_DEPTH
from humble_ledger.engines.postgresql.plans.labels import fields_of_label
from humble_ledger.engines.postgresql.plans.limits import (
    LONGEST_LINE_TAKEN_APART,
    require_values,
    too_large,
)
from humble_ledger.engines.postgresql.plans.lines import fields_of_line
from humble_ledger.errors import UnreadableInput

Raw = dict[str, Any]

_FIGURES = re.compile(
    r"""^(?P<label>.*?)
    (?:\ \ \(cost=(?P<startup>{n})\.\.(?P<total>{n})\ rows=(?P<rows>{n})
        \ width=(?P<width>[0-9]{{1,9}})\))?
    (?:\ {{1,2}}\((?:
        (?P<never>never\ executed)
        | actual\ (?:time=(?P<first>{n})\.\.(?P<last>{n})\ )?rows=(?P<seen>{n})
          \ loops=(?P<loops>{n})
    )\))?$""".format(n=r"[0-9]{1,60}(?:\.[0-9]{1,60})?"),
    re.VERBOSE,
)
_OF_SETS = ("Group Key", "Hash Key", "Sort Key")
_ARROW = re.compile(r"^(?P<indent> *)->  (?P<rest>.*)$")
_SUBPLAN = re.compile(r"^(?P<indent> *)(?P<name>(?:SubPlan|InitPlan|CTE) [^:]*?)$")
_ROWS = re.compile(r"^\s*\(\d+ (?:rows?|lines?)\)\s*$")
_HEADING = re.compile(r"^\W*QUERY PLAN\W*$", re.IGNORECASE)
_PROMPT = re.compile(r"^[\w.@:/-]*[=\-*!(\"'$^][#>] ?")
_TIME_LINES = {"Planning Time", "Execution Time", "Total runtime"}
_TRIGGER = re.compile(
    r"^Trigger (?:(?P<name>.*?) on (?P<table>.*?)|(?:for constraint (?P<constraint>.*?)"
    r"(?: on (?P<on>.*?))?)|(?P<bare>.*?)): (?:time=(?P<time>[\d.]+) )?calls=(?P<calls>[\d.]+)$"
)
_JIT_TIMES = re.compile(r"(\w+) ([\d.]+) ms")


def document_of_text(text: str) -> Raw:
    """The document of a plan in text form.

    Raises:
        UnreadableInput: it is no such plan; tells the line and what was expected there.
    """
    return _Reading(_from_first_step(unframed(text))).document()


class _Open:
    """A step whose lines are being read: its arrow's column, and where its lines stand."""

    __slots__ = ("arrow", "raw", "worker")

    def __init__(self, arrow: int, raw: Raw) -> None:
        self.arrow = arrow
        self.raw = raw
        self.worker: Raw | None = None

    @property
    def column(self) -> int:
        """Where the step's own lines stand."""
        return self.arrow + 6 if self.arrow >= 0 else 2


class _Reading:
    def __init__(self, lines: list[tuple[int, str]]) -> None:
        self._lines = lines
        self._top: Raw = {}
        self._open: list[_Open] = []
        self._names: list[tuple[int, str]] = []  # headings of sub-plans: column, name

    def document(self) -> Raw:
        if not self._lines:
            raise UnreadableInput(
                "There is no plan in the text given.", "Give the output of EXPLAIN."
            )
        number, first = self._lines[0]
        self._begin(-4, first.strip().removeprefix("->").strip(), number, root=True)
        place = 1
        while place < len(self._lines):
            place = self._line(place)
        return self._top

    def _line(self, place: int) -> int:
        """Read a line; the place of the next one."""
        number, line = self._lines[place]
        column = len(line) - len(line.lstrip(" "))
        arrow = _ARROW.match(line)
        if arrow is not None:
            self._begin(len(arrow["indent"]), arrow["rest"], number)
            return place + 1
        if column == 0:
            return self._summary(place)
        heading = _SUBPLAN.match(line)
        if heading is not None:
            # It stands below the lines of the step that it belongs to, behind that step's inputs.
            while len(self._open) > 1 and self._open[-1].column > column:
                self._open.pop()
            self._names.append((column, heading["name"]))
            return place + 1
        owner = self._owner(column)
        raw = owner.raw
        if owner.worker is not None and column > owner.column:
            raw = owner.worker
        worker = re.match(r"Worker (\d+):  ?(.*)$", line.strip())
        if worker is not None:
            owner.worker = self._worker(owner.raw, int(worker[1]))
            self._worker_line(owner.worker, worker[2])
            return place + 1
        if column <= owner.column:
            owner.worker = None
        for key, value in fields_of_line(line.strip()).items():
            if raw.get("Node Type") == "Aggregate" and key in _OF_SETS:
                _add_grouping(raw, key, value)
            else:
                raw[key] = value
        return place + 1

    def _begin(self, arrow: int, text: str, number: int, root: bool = False) -> None:
        match = _figured(text)
        fields = fields_of_label(match["label"]) if match else None
        if match is None or fields is None or (root and match["total"] is None and ":" in text):
            raise UnreadableInput(
                f'Line {number} is no step of a plan: "{text[:60]}".',
                "A step looks like  Seq Scan on reading  (cost=0.00..1.00 rows=1 width=4)",
            )
        raw: Raw = {**fields, **_figures(match)}
        while self._open and self._open[-1].arrow >= arrow:
            self._open.pop()
        if root:
            self._top["Plan"] = raw
        elif not self._open:
            raise UnreadableInput(
                f'Line {number} is a second first step: "{text[:60]}".',
                "Give one plan at a time, with its indentation as the server wrote it.",
            )
        else:
            parent = self._open[-1]
            children = parent.raw.setdefault("Plans", [])
            raw["Parent Relationship"] = self._relationship(parent, arrow, raw, children)
            children.append(raw)
        self._open.append(_Open(arrow, raw))
        if len(self._open) > MOST_DEPTH:
            raise too_large("steps nested too deeply", f"{MOST_DEPTH} below each other")

    def _relationship(self, parent: _Open, arrow: int, raw: Raw, before: list[Raw]) -> str:
        while self._names and self._names[-1][0] >= arrow:
            self._names.pop()
        if self._names and self._names[-1][0] == parent.column and arrow == parent.column + 2:
            name = self._names.pop()[1]
            raw["Subplan Name"] = name
            return "SubPlan" if name.startswith("SubPlan") else "InitPlan"
        inputs = sum(1 for each in before if "Subplan Name" not in each)
        if parent.raw["Node Type"] in ("Append", "Merge Append", "BitmapAnd", "BitmapOr"):
            return "Member"
        if parent.raw["Node Type"] == "Subquery Scan":
            return "Subquery"
        return "Inner" if inputs else "Outer"

    def _owner(self, column: int) -> _Open:
        """The step whose lines stand in this column (or deeper, for its workers)."""
        return next((each for each in reversed(self._open) if each.column <= column), self._open[0])

    @staticmethod
    def _worker(raw: Raw, number: int) -> Raw:
        workers: list[Raw] = raw.setdefault("Workers", [])
        for each in workers:
            if each["Worker Number"] == number:
                return each
        made: Raw = {"Worker Number": number}
        workers.append(made)
        return made

    @staticmethod
    def _worker_line(worker: Raw, text: str) -> None:
        match = _FIGURES.match(f"  ({text})") if text.startswith("actual") else None
        if match is not None:
            worker.update(_figures(match))
        elif text:
            worker.update(fields_of_line(text))

    def _summary(self, place: int) -> int:
        """A line behind the steps, with the indented ones that belong to it."""
        number, line = self._lines[place]
        name, colon, rest = line.partition(":")
        last = place + 1
        while last < len(self._lines) and self._lines[last][1].startswith(" "):
            last += 1
        below = [text.strip() for _, text in self._lines[place + 1 : last]]
        trigger = None
        if line.startswith("Trigger ") and len(line) <= LONGEST_LINE_TAKEN_APART:
            trigger = _TRIGGER.match(line.strip())
        if trigger is not None:
            self._top.setdefault("Triggers", []).append(_trigger(trigger))
        elif not colon:
            raise UnreadableInput(
                f'Line {number} belongs to no step: "{line.strip()[:60]}".',
                "Give one plan, with its indentation as the server wrote it.",
            )
        elif name in _TIME_LINES and rest.strip().endswith("ms"):
            key = "Execution Time" if name == "Total runtime" else name
            self._top[key] = float(rest.strip().removesuffix("ms"))
        elif name == "Settings":
            self._top["Settings"] = dict(re.findall(r"([\w.]+) = '((?:[^']|'')*)'", rest))
        elif name == "JIT":
            self._top["JIT"] = _jit(below)
        elif name == "Planning":
            planning: Raw = {}
            for each in below:
                planning.update(fields_of_line(each))
            self._top["Planning"] = planning
        elif name == "Serialization":
            self._top["Serialization"] = _pairs(rest)
        elif name == "Query Identifier":
            self._top[name] = int(rest)
        else:
            self._top[name] = rest.strip()
        return last


def _add_grouping(raw: Raw, key: str, value: list[str]) -> None:
    """One line of an aggregate's groups; several lines, or hashed ones, are grouping sets."""
    known = raw.get("Group Key")
    sets = raw.get("Grouping Sets")
    keys = [] if value == ["()"] else value
    if key == "Sort Key":
        return  # the order in which the next sets are read; the step itself sorts nothing
    if key == "Group Key" and keys and known is None and sets is None:
        raw["Group Key"] = keys
        return
    if sets is None:
        sets = raw["Grouping Sets"] = []
    if known is not None:
        sets.append({"Group Keys": [raw.pop("Group Key")]})
    sets.append({"Group Keys": [keys]})


def _figured(text: str) -> re.Match[str] | None:
    """A step's line with its figures, which stand at its end."""
    return _FIGURES.match(text) if len(text) <= LONGEST_LINE_TAKEN_APART else None


def _figures(match: re.Match[str]) -> Raw:
    found: Raw = {}
    if match["total"] is not None:
        found["Startup Cost"], found["Total Cost"] = float(match["startup"]), float(match["total"])
        found["Plan Rows"], found["Plan Width"] = _number(match["rows"]), int(match["width"])
    if match["never"]:
        found.update({"Actual Rows": 0, "Actual Loops": 0})
        found.update({"Actual Startup Time": 0.0, "Actual Total Time": 0.0})
    elif match["seen"] is not None:
        if match["last"] is not None:
            found["Actual Startup Time"] = float(match["first"])
            found["Actual Total Time"] = float(match["last"])
        found["Actual Rows"] = _number(match["seen"])
        found["Actual Loops"] = _number(match["loops"])
    return found


def _number(text: str) -> float | int:
    return float(text) if "." in text else int(text)


def _pairs(text: str) -> Raw:
    return dict(re.findall(r"(\w+)=([\w.]+)", text))


def _trigger(match: re.Match[str]) -> Raw:
    found: Raw = {"Calls": float(match["calls"])}
    if match["constraint"]:
        found["Constraint Name"] = match["constraint"]
    found["Trigger Name"] = match["name"] or match["bare"] or ""
    if match["table"] or match["on"]:
        found["Relation"] = match["table"] or match["on"]
    if match["time"]:
        found["Time"] = float(match["time"])
    return {key: value for key, value in found.items() if value != ""}


def _jit(lines: list[str]) -> Raw:
    found: Raw = {}
    for line in lines:
        name, _, rest = line.partition(":")
        if name == "Functions":
            found[name] = int(rest)
        elif name == "Options":
            found[name] = {
                key.strip(): value == "true"
                for key, value in re.findall(r"([A-Za-z ]+) (true|false)", rest)
            }
        elif name == "Timing":
            found[name] = {key: float(value) for key, value in _JIT_TIMES.findall(rest)}
    return found


def unframed(text: str) -> list[tuple[int, str]]:
    """The lines of a plan with their numbers, without what a client put around them."""
    kept: list[tuple[int, str]] = []
    lines = text.splitlines()
    require_values(len(lines))
    for number, line in enumerate(lines, 1):
        # Tabs stand at the beginning, if anywhere; thousands of them would make a line endless.
        shown = line.expandtabs(8) if line.count("\t") <= MOST_DEPTH else line
        shown = shown.rstrip()
        boxed = shown.strip().startswith("|") and shown.endswith("|")
        if boxed:
            shown = shown.strip()[1:-1].rstrip()
        shown = shown.removesuffix("+").rstrip()
        if _HEADING.match(shown) or _is_ruler(shown) or _ROWS.match(shown):
            continue
        if not shown.strip():
            continue
        if _PROMPT.match(shown):
            if kept:
                break
            continue
        kept.append((number, shown))
    margin = min((len(line) - len(line.lstrip(" ")) for _, line in kept), default=0)
    return [(number, line[margin:]) for number, line in kept]


def _is_ruler(line: str) -> bool:
    return "-----" in line and not line.strip(" \t|+-")


def _from_first_step(lines: list[tuple[int, str]]) -> list[tuple[int, str]]:
    """The lines from the first step on; before it may stand the statement, or notices."""
    start = next((n for n, (_, line) in enumerate(lines) if _is_step(line)), len(lines))
    kept = lines[start:]
    margin = len(kept[0][1]) - len(kept[0][1].lstrip(" ")) if kept else 0
    return [(number, line[margin:] if line[:margin].isspace() else line) for number, line in kept]


def _is_step(line: str) -> bool:
    text = line.strip().removeprefix("->").strip()
    match = _figured(text)
    with_figures = match is not None and (match["total"] or match["seen"] or match["never"])
    label = fields_of_label(match["label"]) if match is not None else None
    # Without figures (COSTS OFF) only a label we know counts as the start.
    return label is not None and bool(with_figures or label.get("Known"))
