"""What can be asked of a target, taken from the contract itself: names, arguments, answers."""

from __future__ import annotations

import inspect
import json
import re
from collections.abc import Mapping
from functools import cache
from typing import Any, get_type_hints

from humble_ledger.core.statements.masking import masked, masked_expression
from humble_ledger.engines.contract import Session
from humble_ledger.engines.recorded.codec import encoded

# Asked of a session and not written down: they look at a moment, or hand over what is no data.
_LEFT_OUT = frozenset(("close", "running", "concurrent_trials", "activity", "logs"))
SESSION = frozenset(
    name
    for name, found in inspect.getmembers(Session, inspect.isfunction)
    if not name.startswith("_") and name not in _LEFT_OUT
)
ARM = frozenset(("run", "explain", "result_rows"))
# Each time anew: a run has its own time. All else is answered the same again.
MEASURED = frozenset(("run", "result_rows"))
# A masked file holds the answers to these alone; the others hold values, or hang on them.
MASKABLE = frozenset(
    """explain tables user_tables rows_matching rows_per_value side_effects require_run support
    volatile_functions operator_classes can_create_index preflight""".split()
)
# Blanks of a layout; those within a literal belong to its value.
_BLANKS = re.compile(r"('[^']*')|\s+")


def question(of: type, name: str, args: tuple[Any, ...], kwargs: Mapping[str, Any]) -> Any:
    """The arguments of a call by name, as JSON; those with their defaults are left out."""
    signature = inspect.signature(getattr(of, name))
    bound = signature.bind(None, *args, **kwargs)
    given = {key: value for key, value in bound.arguments.items() if key != "self"}
    defaults = {key: p.default for key, p in signature.parameters.items()}
    return {key: encoded(value) for key, value in given.items() if value != defaults.get(key)}


@cache
def answer_type(of: type, name: str) -> Any:
    """The type of what a call answers."""
    return get_type_hints(getattr(of, name))["return"]


def key_of(name: str, asked: Any) -> str:
    """What tells two questions apart: blanks in a statement do not."""
    return json.dumps([name, _normal(asked)], sort_keys=True)


def _normal(part: Any) -> Any:
    if isinstance(part, Mapping):
        return {key: _normal(value) for key, value in part.items()}
    if isinstance(part, list):
        return [_normal(each) for each in part]
    return _BLANKS.sub(lambda at: at[1] or " ", part).strip() if isinstance(part, str) else part


def masked_question(name: str, asked: Any) -> Any:
    """A question without its literals, as a masked file has it."""
    found = dict(asked)
    if isinstance(found.get("statement"), Mapping):
        found["statement"] = {"sql": masked(found["statement"]["sql"])}
    if isinstance(found.get("conditions"), list):
        found["conditions"] = [masked_expression(text) for text in found["conditions"]]
    if isinstance(found.get("expression"), str):
        found["expression"] = masked_expression(found["expression"])
    return found
