"""SQL Server's expressions in the notation of the core."""

from __future__ import annotations

import re
from xml.etree.ElementTree import Element

from humble_ledger.engines.elsewhere.names import identifier, spaced
from humble_ledger.engines.elsewhere.sqlserver.xml import bare

_NAME = r"\[(?:[^\]]|\]\])+\]"
_TOKEN = re.compile(
    rf"""(?P<string>N?'(?:[^']|'')*')
    | (?P<aliased>{_NAME}(?:\.{_NAME})*\ as\ (?P<alias>{_NAME})\.(?P<of_alias>{_NAME}))
    | (?P<path>{_NAME}(?:\.{_NAME})*)
    | (?P<operator>\bisnotnull\b|\bisnull\b)
    """,
    re.VERBOSE,
)
_VALUE = re.compile(r"@(?P<name>\w+)")
_TYPE = r"[\w ]+(?:\([\w, ]+\))?"
_CONVERT = re.compile(
    rf"\b(?:CONVERT_IMPLICIT|CONVERT|TRY_CONVERT)\((?P<type>{_TYPE}),", re.IGNORECASE
)
_TYPES = {
    "nvarchar": "varchar", "nchar": "char", "datetime": "timestamp", "datetime2": "timestamp",
    "smalldatetime": "timestamp", "money": "numeric", "tinyint": "smallint", "bit": "boolean",
    "uniqueidentifier": "uuid", "datetimeoffset": "timestamptz", "float": "double precision",
}  # fmt: skip


def noted(text: str) -> str:
    """A condition in brackets; "" for none.

    A conversion is a cast, and parameters are numbered by their names.
    """
    plain = text.strip()
    if not plain:
        return ""
    plain = _casts(_TOKEN.sub(_changed, plain))
    return plain if _whole(plain) else f"({plain})"


def column(element: Element) -> str:
    """A column as a plan refers to it: with its alias, else its table, where it has one."""
    name = identifier(bare(element.get("Column")))
    owner = bare(element.get("Alias")) or bare(element.get("Table"))
    return f"{identifier(owner)}.{name}" if owner else name


def _changed(found: re.Match[str]) -> str:
    if found["string"] is not None:
        return found[0].removeprefix("N")
    if found["aliased"] is not None:
        return f"{identifier(bare(found['alias']))}.{identifier(bare(found['of_alias']))}"
    if found["path"] is not None:
        parts = [bare(part) for part in re.findall(_NAME, found["path"])]
        if len(parts) == 1 and parts[0].startswith("@"):
            return _parameter(parts[0][1:])
        return ".".join(identifier(part) for part in parts[-2:])
    return found[0]


def _parameter(name: str) -> str:
    digits = re.sub(r"\D", "", name)
    return f"${int(digits)}" if digits else f"${1 + sum(map(ord, name.lower())) % 900}"


def _casts(text: str) -> str:
    """CONVERT(type, expression, style) as CAST(expression AS type)."""
    place = 0
    while True:
        found = _CONVERT.search(text, place)
        if found is None:
            return _outside_literals(text)
        end, commas = _arguments(text, found.end())
        inner = text[found.end() : commas[0] if commas else end]
        named = found["type"].strip().split("(")[0].lower()
        type_ = _TYPES.get(named, named)
        text = f"{text[: found.start()]}CAST({inner} AS {type_}){text[end + 1 :]}"
        place = found.start() + len("CAST(")


def _arguments(text: str, start: int) -> tuple[int, list[int]]:
    """Where the brackets of a call close, and the commas in it."""
    depth, quoted = 1, False
    commas: list[int] = []
    for place in range(start, len(text)):
        letter = text[place]
        if letter == "'":
            quoted = not quoted
        elif quoted:
            continue
        elif letter == "(":
            depth += 1
        elif letter == ")":
            depth -= 1
            if depth == 0:
                return place, commas
        elif letter == "," and depth == 1:
            commas.append(place)
    return len(text), commas


def _outside_literals(text: str) -> str:
    parts = re.split(r"('(?:[^']|'')*')", text)
    return spaced(
        "".join(
            part if place % 2 else _VALUE.sub(lambda m: _parameter(m["name"]), part)
            for place, part in enumerate(parts)
        )
    )


def _whole(text: str) -> bool:
    """Whether one pair of brackets is around all of it."""
    if not (text.startswith("(") and text.endswith(")")):
        return False
    end, _ = _arguments(text, 1)
    return end == len(text) - 1
