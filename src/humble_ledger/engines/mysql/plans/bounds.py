"""BETWEEN as two comparisons, as a statement has them that does not say it."""

from __future__ import annotations

import re

MOST = 100  # that a condition has, unless somebody made it for that
MOST_TIMES_AS_LONG = 4
# What parts an operand from what stands in front of it, or ends the upper bound.
_PART = re.compile(
    r"""(?P<string>'(?:[^']|'')*'|"(?:[^"]|"")*")
    | (?P<between>(?:\bnot\ )?\bbetween\b)
    | (?P<and>\band\b)
    | (?P<ends>\b(?:or|xor|when|then|else|end)\b|&&|\|\||,)
    | (?P<not>\bnot\b|!(?!=))
    | (?P<opens>\()
    | (?P<closes>\))
    """,
    re.VERBOSE | re.IGNORECASE,
)


def bounds_apart(text: str) -> str:
    """``a between x and y`` as ``a >= x and a <= y``, and NOT BETWEEN as what lies outside.

    Brackets are taken as they are, so that bounds may be computed. What is compared is written
    twice: a text that was made to grow by that is left as it was.
    """
    found = text
    for _ in range(MOST):
        changed = _one_apart(found)
        if changed is None:
            return found
        if len(changed) > MOST_TIMES_AS_LONG * len(text):
            return text
        found = changed
    return found


def _one_apart(text: str) -> str | None:
    """The text with one BETWEEN less; None where there is none that is whole."""
    begins = [0]  # where an operand begins, by the depth of brackets
    for found in _PART.finditer(text):
        if found["opens"]:
            begins.append(found.end())
        elif found["closes"]:
            if len(begins) == 1:
                return None  # a piece of a condition
            begins.pop()
        elif found["between"]:
            return _replaced(text, begins[-1], found)
        elif found["string"] is None:
            begins[-1] = found.end()
    return None


def _replaced(text: str, begin: int, between: re.Match[str]) -> str | None:
    middle, end = _bounds(text, between.end())
    if middle is None:
        return None
    operand = text[begin : between.start()].strip()
    low, high = text[between.end() : middle.start()].strip(), text[middle.end() : end].strip()
    if between[0][:3].lower() == "not":
        apart = f"({operand} < {low} or {operand} > {high})"
    else:
        apart = f"{operand} >= {low} and {operand} <= {high}"
    lead = text[begin : between.start()]
    space = lead[: len(lead) - len(lead.lstrip())]
    behind = " " if end < len(text) and text[end] not in "),  " else ""
    return f"{text[:begin]}{space}{apart}{behind}{text[end:]}"


def _bounds(text: str, begin: int) -> tuple[re.Match[str] | None, int]:
    """The AND between the bounds, and where the upper one ends."""
    depth, middle = 0, None
    for found in _PART.finditer(text, begin):
        if found["opens"]:
            depth += 1
        elif found["closes"]:
            depth -= 1
            if depth < 0:
                return middle, found.start()
        elif depth == 0 and found["and"]:
            if middle is not None:
                return middle, _before(text, found.start())
            middle = found
        elif depth == 0 and (found["ends"] or found["between"]):
            return middle, _before(text, found.start())
    return middle, len(text)


def _before(text: str, place: int) -> int:
    """The same place without the blanks in front of it."""
    return len(text[:place].rstrip())
