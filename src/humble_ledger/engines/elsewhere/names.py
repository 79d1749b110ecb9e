"""Names as plans print them, in the notation of the core: small letters need no quotes."""

from __future__ import annotations

import re

_PLAIN = re.compile(r"[a-z_][a-z0-9_$]*")
_LITERALS = re.compile(r"('(?:[^']|'')*'|\"[^\"]*\")")
_BARE_NUMBER = re.compile(r"(?<![\w\"])\((-?\d+(?:\.\d+)?)\)")
_COMPARED = re.compile(r" ?(<=|>=|<>|!=|=|<|>) ?")
_SHOUTED = re.compile(r"[A-Z_][A-Z0-9_$#]*")


def identifier(name: str) -> str:
    """A name, quoted where it must be."""
    return name if _PLAIN.fullmatch(name) else '"' + name.replace('"', '""') + '"'


def spaced(text: str) -> str:
    """A condition with blanks around its comparisons, and numbers without brackets of their own."""
    parts = _LITERALS.split(text)
    return "".join(
        part if place % 2 else _COMPARED.sub(r" \1 ", _BARE_NUMBER.sub(r"\1", part))
        for place, part in enumerate(parts)
    )


def quiet(name: str) -> str:
    """A name of a server that keeps unquoted names in capitals: as people write it."""
    return name.lower() if _SHOUTED.fullmatch(name) else name
