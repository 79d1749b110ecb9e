"""JSON as these servers write it: control characters stand in it as they are, and odd escapes."""

from __future__ import annotations

import json
import re
from typing import Any

import msgspec

# A backslash that begins no escape of JSON's.
_BAD_ESCAPE = re.compile(r'\\(?!["\\/bfnrtu])')


def decoded(text: str) -> Any:
    """What a text of JSON says.

    Raises:
        ValueError: it is none, whatever is forgiven.
    """
    try:
        return msgspec.json.decode(text.encode("utf-8", "replace"))
    except msgspec.DecodeError:
        return json.loads(_BAD_ESCAPE.sub("", text), strict=False)
