"""Showing text of strangers so that it cannot act: no control code, no mark that reorders.

A name, a statement or a message may hold characters that a terminal obeys (ESC, the C1 codes),
that turn the order of what stands around them (bidirectional marks), that break lines where none
should break, or that cannot be seen at all. All are shown as what they are: \\x1b, \\u202e.
"""

from __future__ import annotations

import re

_INVISIBLE = (
    "\u00ad\u061c\u180e\u200b\u200e\u200f\u2028\u2029\u202a-\u202e\u2060-\u2064\u2066-\u206f\ufeff"
    "\ufff9-\ufffb\U000e0000-\U000e007f"
)
_ACTING = re.compile(f"[\x00-\x08\x0b-\x1f\x7f-\x9f{_INVISIBLE}\ud800-\udfff]")
_ACTING_IN_A_LINE = re.compile(f"[\x00-\x1f\x7f-\x9f{_INVISIBLE}\ud800-\udfff]")
# What JSON itself lets pass unescaped.
_ACTING_IN_JSON = re.compile(f"[\x7f-\x9f{_INVISIBLE}]")


def escaped(text: str) -> str:
    """The text with everything in it that acts written out; line ends and tabs stay."""
    return _ACTING.sub(_written, text)


def escaped_line(text: str) -> str:
    """The same, with line ends and tabs written out, too: for what must stay on one line."""
    return _ACTING_IN_A_LINE.sub(_written, text)


def escaped_json(document: str) -> str:
    """A JSON document that means the same, and in which nothing acts on a terminal."""
    return _ACTING_IN_JSON.sub(_in_json, document)


def _written(match: re.Match[str]) -> str:
    code = ord(match[0])
    if code < 0x100:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def _in_json(match: re.Match[str]) -> str:
    code = ord(match[0])
    if code < 0x10000:
        return f"\\u{code:04x}"
    high, low = divmod(code - 0x10000, 0x400)
    return f"\\u{0xD800 + high:04x}\\u{0xDC00 + low:04x}"


def readable(text: str) -> str:
    """The text without halves of characters, which no file and no JSON can hold."""
    return text.encode("utf-8", "backslashreplace").decode()
