"""The text of a plan, taken apart into steps with what stands below each."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from humble_ledger.errors import UnreadableInput

SAVING = "Save all that  EXPLAIN ANALYZE …  prints, with the signs at the beginning of its lines."
_STEP = re.compile(r"^(?P<rails>[\s│├└─|`+-]*)• (?P<name>\S.*)$")
_RAILS = re.compile(r"^[\s│├└─|]*")
_FRAME = re.compile(r"^[\s+\-─┼┬┴]*$")
_COUNT = re.compile(r"^\(\d+ rows?\)$|^Time: |^Note: ")
_ADVICE = re.compile(r"^index recommendations: \d+")
_FLAG = "yes"


@dataclass(slots=True)
class Lines:
    """One step: its name, its lines by their names, and the steps below; ``line`` is its place."""

    name: str
    line: int
    told: dict[str, str] = field(default_factory=dict)
    below: list[Lines] = field(default_factory=list)


@dataclass(slots=True)
class Printed:
    """A whole plan: what stands above the steps, the steps, and what stands below them."""

    head: dict[str, str]
    root: Lines
    advice: list[str]


def printed(text: str) -> Printed:
    """The parts of a printed plan.

    Raises:
        UnreadableInput: there is no step in it, or one hangs below nothing.
    """
    head: dict[str, str] = {}
    advice: list[str] = []
    open_: list[tuple[int, Lines]] = []
    tops: list[Lines] = []
    advising = False
    for number, raw in enumerate(text.splitlines(), 1):
        line = _unframed(raw)
        if _FRAME.match(line) or _COUNT.match(line.strip()) or line.strip() == "info":
            continue
        advising = advising or _ADVICE.match(line.strip()) is not None
        if advising:
            advice.append(line.strip())
            continue
        found = _STEP.match(line)
        if found is not None:
            step, depth = Lines(found["name"].strip(), number), len(found["rails"])
            open_ = [each for each in open_ if each[0] < depth]
            if open_:
                open_[-1][1].below.append(step)
            elif tops:
                raise UnreadableInput(
                    f"The step in line {number} hangs below no other.",
                    f"Is its beginning missing? {SAVING}",
                )
            else:
                tops.append(step)
            open_.append((depth, step))
            continue
        name, colon, value = _RAILS.sub("", line).partition(":")
        if not name.strip():
            continue
        into = open_[-1][1].told if open_ else head
        into[name.strip()] = value.strip() if colon else _FLAG
    if not tops:
        raise UnreadableInput("There is no step in this plan: none begins with •.", SAVING)
    return Printed(head, tops[0], advice)


def _unframed(line: str) -> str:
    """A line without what clients draw around tables and what CSV puts around fields."""
    bare = line.rstrip()
    if bare.lstrip().startswith("|") and bare.endswith("|"):
        bare = bare.strip()[1:-1].rstrip()
    if bare.startswith('"') and bare.endswith('"') and len(bare) > 1:
        bare = bare[1:-1].replace('""', '"')
    return bare
