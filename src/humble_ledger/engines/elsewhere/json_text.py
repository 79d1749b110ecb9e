"""JSON as people saved it: with other words before and behind, told by line where it is broken."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from humble_ledger.errors import UnreadableInput

_MOST_DIGITS = 400


def decoded(text: str, saving: str) -> Any:
    """The first JSON value of a text; ``saving`` is the hint how such a plan is saved.

    Raises:
        UnreadableInput: there is none, or it breaks off; tells line and column.
    """
    starts = [place for place in (text.find("{"), text.find("[")) if place >= 0]
    begin = min(starts, default=-1)
    if begin < 0:
        raise UnreadableInput("There is no JSON in this text.", saving)
    try:
        found, _ = json.JSONDecoder(parse_int=_whole).raw_decode(text[begin:])
    except json.JSONDecodeError as error:
        before = text[:begin].count("\n")
        raise UnreadableInput(
            f"This looks like a saved plan but is no JSON at line {before + error.lineno}, column "
            f"{error.colno}: {error.msg}.",
            f"Is the file whole? {saving}",
        ) from error
    except RecursionError as error:
        raise UnreadableInput("The brackets of this plan nest too deeply.", saving) from error
    return found


def _whole(text: str) -> int | float:
    return int(text) if len(text) <= _MOST_DIGITS else float(text)


def number(value: object) -> float | None:
    """A figure that may be written as text, with commas; None where there is none."""
    if isinstance(value, bool) or value is None:
        return None
    if isinstance(value, int | float):
        return float(value) if abs(value) < 1e300 else None
    if isinstance(value, str):
        try:
            found = float(value.replace(",", "").strip())
        except ValueError:
            return None
        return found if abs(found) < 1e300 else None
    return None


def texts(value: object) -> list[str]:
    """One text or a list of them, as a list."""
    if value is None:
        return []
    if isinstance(value, list):
        return [str(each) for each in value if str(each).strip()]
    return [part for part in str(value).split("\n") if part.strip()]


def children_of(raw: Mapping[str, Any], name: str, place: str) -> list[tuple[Any, str]]:
    """The objects of a list in an object, each with its place.

    Raises:
        UnreadableInput: it is no list of objects.
    """
    found = raw.get(name) or []
    if not isinstance(found, list) or not all(isinstance(each, Mapping) for each in found):
        raise UnreadableInput(f'"{name}" at {place} is no list of steps.', "Is the file whole?")
    return [(each, f"{place}.{name}[{n}]") for n, each in enumerate(found)]
