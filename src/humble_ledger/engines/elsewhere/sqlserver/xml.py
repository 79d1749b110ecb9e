"""The XML of a showplan: parsed without its namespace's names, read by short helpers."""

from __future__ import annotations

from collections.abc import Iterator
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

from humble_ledger.errors import UnreadableInput

SAVING = "Save the plan as XML: SET STATISTICS XML ON, or the plan's own file (.sqlplan)."
_MOST_ELEMENTS = 500_000


def document_root(text: str) -> Element:
    """The root element of a showplan.

    Raises:
        UnreadableInput: it is no XML, or breaks off; tells line and column.
    """
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise UnreadableInput("This plan declares entities, which no server writes.", SAVING)
    if text.count("<") > 2 * _MOST_ELEMENTS:
        raise UnreadableInput(f"This plan has more than {_MOST_ELEMENTS:,} elements.", SAVING)
    begin, end = text.find("<ShowPlanXML"), text.rfind("</ShowPlanXML>")
    # The declaration may name an encoding that the text is no longer in.
    bare = text[begin : end + len("</ShowPlanXML>")] if 0 <= begin < end else text[max(begin, 0) :]
    try:
        return ElementTree.fromstring(bare)
    except ElementTree.ParseError as error:
        line, column = error.position
        above = text[: max(begin, 0)].count("\n")
        raise UnreadableInput(
            f"This plan cannot be read at line {line + above}, column {column + 1}: "
            f"{str(error).split(':')[0]}.",
            f"Is the file whole? {SAVING}",
        ) from error


def tag(element: Element) -> str:
    """An element's name without its namespace."""
    return element.tag.rpartition("}")[2] if isinstance(element.tag, str) else ""


def child(element: Element | None, name: str) -> Element | None:
    """The first child of a name."""
    if element is None:
        return None
    return next((each for each in element if tag(each) == name), None)


def children(element: Element | None, name: str) -> list[Element]:
    """The children of a name."""
    return [] if element is None else [each for each in element if tag(each) == name]


def below(element: Element | None, *names: str) -> Element | None:
    """The element that a path of names leads to."""
    for name in names:
        element = child(element, name)
    return element


def within(element: Element | None, name: str, *, but: str = "") -> Iterator[Element]:
    """All elements of a name below one, not looking into those called ``but``."""
    if element is None:
        return
    waiting = [element]
    while waiting:
        one = waiting.pop()
        for each in reversed(list(one)):
            if tag(each) != but:
                waiting.append(each)
        if one is not element and tag(one) == name:
            yield one


def figure(element: Element | None, name: str) -> float | None:
    """A figure of an attribute; None where there is none."""
    if element is None:
        return None
    try:
        found = float(element.get(name, ""))
    except ValueError:
        return None
    return found if abs(found) < 1e300 else None


def flag(element: Element | None, name: str) -> bool:
    """A truth value of an attribute."""
    return element is not None and element.get(name, "").lower() in ("1", "true")


def bare(name: str | None) -> str:
    """A name without its brackets."""
    found = (name or "").strip()
    if found.startswith("[") and found.endswith("]"):
        return found[1:-1].replace("]]", "]")
    return found
