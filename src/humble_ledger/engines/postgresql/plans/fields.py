"""The fields of a step of a plan's document, each checked for its type as it is taken.

A document may come from anywhere: a number may be a text, a date, NaN or have a thousand digits.
Every such field is named with its step, and nothing of the plan is believed then.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from humble_ledger.core.plans.limits import MOST_DEPTH, MOST_STEPS
from humble_ledger.engines.postgresql.plans.limits import (
    MOST_LETTERS,
    MOST_VALUES,
    too_large,
)
from humble_ledger.errors import UnreadableInput

# Far above any estimate of a planner, and so far below the largest number that products fit.
LARGEST = 1e60
_SHOWN = 40


@dataclass(frozen=True, slots=True)
class Fields:
    """The fields of an object; ``where`` says of what ("step 3")."""

    raw: Mapping[str, Any]
    where: str

    def number(self, name: str) -> float | None:
        """A number of nought or more; None when it is not there.

        Raises:
            UnreadableInput: it is something else.
        """
        value = self.raw.get(name)
        if value is None:
            return None
        return float(self._checked(name, value))

    def count(self, name: str) -> int | None:
        """A whole number of nought or more; None when it is not there.

        Raises:
            UnreadableInput: it is something else.
        """
        value = self.raw.get(name)
        return None if value is None else int(self._checked(name, value))

    def _checked(self, name: str, value: Any) -> int | float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise self.unfit(name, value, "a number")
        if not (isinstance(value, int) or math.isfinite(value)) or not 0 <= value <= LARGEST:
            raise self.unfit(name, value, "a number from 0 on")
        return value

    def text(self, name: str, missing: str = "") -> str:
        """A text.

        Raises:
            UnreadableInput: it is something else, or too long.
        """
        value = self.raw.get(name)
        if value is None:
            return missing
        if not isinstance(value, str):
            raise self.unfit(name, value, "a text")
        if len(value) > MOST_LETTERS:
            raise too_large(f"a text of {len(value):,} letters", f"{MOST_LETTERS:,}")
        return value

    def texts(self, name: str) -> tuple[str, ...]:
        """A list of texts, empty when it is not there.

        Raises:
            UnreadableInput: it is something else.
        """
        return tuple(Fields({name: each}, self.where).text(name) for each in self.items(name))

    def objects(self, name: str) -> Iterator[Fields]:
        """The objects of a list, each with its fields.

        Raises:
            UnreadableInput: it is no such list.
        """
        for each in self.items(name):
            if not isinstance(each, Mapping):
                raise self.unfit(name, each, "a list of objects")
            yield Fields(each, self.where)

    def object(self, name: str) -> Fields:
        """An object, empty when it is not there.

        Raises:
            UnreadableInput: it is something else.
        """
        value = self.raw.get(name)
        if value is None:
            return Fields({}, self.where)
        if not isinstance(value, Mapping):
            raise self.unfit(name, value, "an object")
        return Fields(value, self.where)

    def items(self, name: str) -> list[Any]:
        """A list of anything, empty when it is not there.

        Raises:
            UnreadableInput: it is something else.
        """
        value = self.raw.get(name)
        if value is None:
            return []
        if not isinstance(value, list):
            raise self.unfit(name, value, "a list")
        return value

    def unfit(self, name: str, value: Any, wanted: str) -> UnreadableInput:
        """The refusal of a field."""
        huge = isinstance(value, int) and abs(value) > LARGEST
        shown = "too large" if huge else repr(value)[:_SHOWN]
        return UnreadableInput(
            f'This looks like a PostgreSQL plan, but "{name}" of {self.where} is {shown}, not '
            f"{wanted}.",
            "Save it anew with  EXPLAIN (ANALYZE, BUFFERS, VERBOSE, FORMAT JSON) …",
        )


def require_bounded(document: object) -> None:
    """Refuse a document that is too deep or has too many values, however its parts are shared.

    Raises:
        UnreadableInput: it is, or has numbers that no file holds.
    """
    values = 0
    open_: list[tuple[object, int]] = [(document, 0)]
    while open_:
        part, depth = open_.pop()
        values += 1
        if values > MOST_VALUES:
            raise too_large("too many values", f"{MOST_VALUES:,}")
        # A step is an object in a list.
        if depth > 2 * MOST_DEPTH + 20:
            raise too_large("steps nested too deeply", f"{MOST_DEPTH} below each other")
        if isinstance(part, Mapping):
            open_ += [(each, depth + 1) for each in part.values()]
        elif isinstance(part, list | tuple):
            open_ += [(each, depth + 1) for each in part]


def require_steps(count: int) -> None:
    """Refuse a plan of too many steps.

    Raises:
        UnreadableInput: it has.
    """
    if count > MOST_STEPS:
        raise too_large("too many steps", f"{MOST_STEPS:,}")
