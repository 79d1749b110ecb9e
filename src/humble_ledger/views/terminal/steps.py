"""A table of steps whose notes may run on below the figures.

Rich's own tables keep each text within its column; the conditions of a plan are long, and
the room to their right, below the figures of the step, is empty.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from rich.console import Console, ConsoleOptions, RenderResult
from rich.measure import Measurement

from humble_ledger.views.terminal.parts import Hanging
from humble_ledger.views.terminal.text import Text, cells, left, right, wrapped

LEAST_STEP_WIDTH = 34
NOTE_INDENT = "    "
GAP = "  "
_FITTED: Mapping[str, Any] = {"no_wrap": True, "overflow": "ellipsis"}


@dataclass(frozen=True, slots=True)
class Cell:
    """One figure under its heading; a ``spare`` column goes when there is little room."""

    heading: str
    text: str
    bold: bool = False
    spare: bool = False


@dataclass(frozen=True, slots=True)
class StepRow:
    """One step: its guide and name, its figures, and notes with the guide ``below`` it."""

    number: str
    guide: str
    name: str
    hot: bool
    below: str
    cells: tuple[Cell, ...]
    notes: tuple[str, ...]


class StepTable:
    """The steps of a plan, as wide as the terminal."""

    def __init__(self, rows: Sequence[StepRow]) -> None:
        self._rows = rows

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        return Measurement(options.max_width, options.max_width)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        numbers = max(2, *(len(row.number) for row in self._rows))
        widths = self._widths(options.max_width - numbers - len(GAP))
        names = [len(row.guide) + cells(row.name) for row in self._rows]
        room = options.max_width - numbers - len(GAP) - sum(w + len(GAP) for w in widths.values())
        step = max(LEAST_STEP_WIDTH // 2, min(room, max([4, *names])))
        # The lines are fitted here: Rich need not look for places to break them.
        head = Text("no".rjust(numbers) + GAP + "step".ljust(step), style="bright_black", **_FITTED)
        for place, width in widths.items():
            heading = self._rows[0].cells[place].heading
            head.append(GAP + heading.rjust(width))
        yield head
        for row in self._rows:
            yield from self._step(row, numbers, step, widths)
            for note in row.notes:
                guide = " " * (numbers + len(GAP)) + row.below + NOTE_INDENT
                yield Hanging(guide, note, "bright_black")

    def _widths(self, room: int) -> dict[int, int]:
        """The width of each column shown, by its place; spare ones only when there is room."""
        widths = {
            place: max(len(cell.heading), *(cells(row.cells[place].text) for row in self._rows))
            for place, cell in enumerate(self._rows[0].cells)
        }
        longest = max(len(row.guide) + cells(row.name) for row in self._rows)
        wanted = min(LEAST_STEP_WIDTH, longest)
        for place in [p for p, cell in enumerate(self._rows[0].cells) if cell.spare]:
            if sum(w + len(GAP) for w in widths.values()) + wanted > room:
                del widths[place]
        return widths

    def _step(
        self, row: StepRow, numbers: int, step: int, widths: dict[int, int]
    ) -> Iterator[Text]:
        names = wrapped(row.name, max(step - len(row.guide), 8))
        first = Text(row.number.rjust(numbers) + GAP, **_FITTED)
        first.append(left(row.guide + names[0], step), style="bold" if row.hot else "")
        for place, width in widths.items():
            cell = row.cells[place]
            first.append(GAP + right(cell.text, width), style="bold" if cell.bold else "")
        yield first
        for more in names[1:]:
            yield Text(" " * (numbers + len(GAP)) + row.below + "  " + more, **_FITTED)
