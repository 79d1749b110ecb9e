"""A plan saved by anyone, in whatever form EXPLAIN gives: JSON, text, YAML or XML.

What clients put around it (headings, rulers, boxes, `+` at line ends, row counts, prompts) is
taken off first. All forms end as the document that the JSON form would be.
"""

from __future__ import annotations

import json
import re
from typing import Any
from xml.etree import ElementTree

import yaml

from humble_ledger.core.plans.limits import MOST_DEPTH
from humble_ledger.engines.postgresql.plans.limits import (
    MOST_BYTES_OF_YAML,
    require_bytes,
    require_values,
    too_large,
)
from humble_ledger.engines.postgresql.plans.text import document_of_text, unframed
from humble_ledger.errors import UnreadableInput

_LOOKS = re.compile(
    r"\(cost=\d|\(actual (?:time|rows)=|^[ \t]*->  \S|\"Node Type\"|Node Type:|<Node-Type>",
    re.MULTILINE,
)
_SAVING = "Save it with  EXPLAIN (ANALYZE, BUFFERS, VERBOSE, FORMAT JSON) …"
_LISTS = {
    "Plans": "Plan",
    "Workers": "Worker",
    "Triggers": "Trigger",
    "Grouping-Sets": "Grouping-Set",
    "Group-Keys": "Group-Key",
    "Hash-Keys": "Hash-Key",
}
_HYPHENED = {
    name.replace("-", " "): name
    for name in ("One-Time Filter", "Full-sort Groups", "Pre-sorted Groups")
}
_MOST_DIGITS = 400
_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")
# What stays text though it may look like a number or a truth value.
_TEXT = re.compile(
    r"Item$|Name$|Schema$|Alias$|(?<!by-)(?<!by-Join-)Filter$|Cond$|Key$|Call$|Query-Text$"
)


def looks_like_plan(text: str) -> bool:
    """Whether a text is more likely a saved plan than SQL."""
    return text.lstrip()[:1] in ("{", "[", "<") or _LOOKS.search(text) is not None


def document_of(text: str) -> Any:
    """The document of a saved plan.

    Raises:
        UnreadableInput: it is none, or breaks off; tells the line and what was expected.
    """
    require_bytes(text)
    try:
        return _document(text)
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError) as error:
        # Whatever a reader stumbles over: a number of five thousand digits, a key of no name.
        raise UnreadableInput(
            "This looks like a saved plan, but a part of it is not as a server writes it "
            f"({type(error).__name__}).",
            f"Is the file whole? {_SAVING}",
        ) from error


def _document(text: str) -> Any:
    plain = "\n".join(line for _, line in unframed(text))
    start = plain.lstrip()
    if start[:1] in ("{", "["):
        return _json(plain)
    if start.startswith("<"):
        return _xml(plain)
    if re.match(r"- Plan:|-\s*Query Text:|Query Text:.*\nPlan:|Plan:", start):
        return _yaml(plain)
    return document_of_text(text)


def _json(text: str) -> Any:
    require_values(text.count("{") + text.count("[") + text.count(","))
    try:
        # What follows the plan (a prompt, a row count) does not matter.
        found, _ = json.JSONDecoder(parse_int=_whole).raw_decode(text.lstrip())
    except json.JSONDecodeError as error:
        raise UnreadableInput(
            f"This looks like a saved plan but is no JSON at line {error.lineno}, column "
            f"{error.colno}: {error.msg}.",
            f"Is the file whole? {_SAVING}",
        ) from error
    except RecursionError as error:
        raise UnreadableInput("The brackets of this plan nest too deeply.", _SAVING) from error
    return found


def _whole(text: str) -> int | float:
    """A whole number of any size; Python itself refuses those of thousands of digits."""
    return int(text) if len(text) <= _MOST_DIGITS else float(text)


def _yaml(text: str) -> Any:
    """YAML with every value as text, which its key then tells the type of.

    Its own types would take a date for one, and 1:30 for a number of minutes.
    """
    require_bytes(text, MOST_BYTES_OF_YAML)
    loader = getattr(yaml, "CBaseLoader", yaml.BaseLoader)
    try:
        depth = 0
        for number, event in enumerate(yaml.parse(text, Loader=loader)):
            require_values(number)
            if isinstance(event, yaml.AliasEvent) or getattr(event, "anchor", None):
                raise UnreadableInput("This plan has an alias, which no server writes.", _SAVING)
            depth += isinstance(event, yaml.CollectionStartEvent)
            depth -= isinstance(event, yaml.CollectionEndEvent)
            if depth > 2 * MOST_DEPTH + 20:
                raise too_large("steps nested too deeply", f"{MOST_DEPTH} below each other")
        return _typed("", yaml.load(text, Loader=loader))
    except yaml.MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark else 1
        raise UnreadableInput(
            f"This looks like a plan in YAML but cannot be read at line {line}: {error.problem}.",
            f"Is the file whole, with its indentation? {_SAVING}",
        ) from error
    except yaml.YAMLError as error:
        raise UnreadableInput(
            "This looks like a plan in YAML but holds characters that no YAML has.",
            f"Is the file whole? {_SAVING}",
        ) from error


def _typed(name: str, value: Any) -> Any:
    """What YAML gave as text, by what its key says of it."""
    if isinstance(value, dict):
        if name == "Settings":
            return value
        return {key: _typed(str(key), each) for key, each in value.items()}
    if isinstance(value, list):
        return [each if isinstance(each, str) else _typed(name, each) for each in value]
    name = name.replace(" ", "-")
    return [] if value == "" and name in _LISTS else _value(name, value)


def _xml(text: str) -> Any:
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise UnreadableInput("This plan declares entities, which no server writes.", _SAVING)
    require_values(text.count("<") // 2)
    try:
        root = ElementTree.fromstring(text)
    except ElementTree.ParseError as error:
        line, column = error.position
        raise UnreadableInput(
            f"This looks like a plan in XML but cannot be read at line {line}, column {column}.",
            f"Is the file whole? {_SAVING}",
        ) from error
    query = next((each for each in root.iter() if _tag(each) == "Query"), root)
    found = _element(query)
    return found if isinstance(found, dict) else {}


def _tag(element: ElementTree.Element) -> str:
    return element.tag.rpartition("}")[2]


def _element(element: ElementTree.Element) -> Any:
    """An element as JSON has it: lists where its children are items, else an object or value."""
    children = list(element)
    name = _tag(element)
    if name == "Settings":
        return {_tag(child): child.text or "" for child in children}
    if not children and (name in _LISTS or name == "Group-Key"):
        return []
    if not children:
        return _value(name, element.text or "")
    tags = {_tag(child) for child in children}
    if tags == {"Item"} or (name in _LISTS and tags == {_LISTS[name]}):
        return [_element(child) for child in children]
    return {_key(_tag(child)): _element(child) for child in children}


def _key(tag: str) -> str:
    """A tag as the key of the JSON form: XML has a hyphen for every space and slash."""
    plain = tag.replace("-", " ").replace("I O ", "I/O ")
    return _HYPHENED.get(plain, plain)


def _value(name: str, text: str) -> Any:
    if _TEXT.search(name):
        return text
    if _NUMBER.fullmatch(text):
        return float(text) if "." in text else _whole(text)
    return {"true": True, "false": False}.get(text, text)
