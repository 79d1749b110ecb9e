"""Questions and answers as JSON, by the types that the contract gives them.

Data classes are objects by their fields; fields that have their default are left out. A mapping
whose keys are no text is a list of pairs. A plan is the server's own document.
"""

from __future__ import annotations

import types
from collections.abc import Callable, Iterable, Mapping, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import MISSING, Field, fields, is_dataclass
from datetime import datetime
from enum import Enum
from functools import cache
from typing import Any, Union, get_args, get_origin, get_type_hints

from humble_ledger.engines.contract import PlanDocument

Json = Any
PAIRS = "pairs"
DOCUMENT = "document"


def encoded(value: Any) -> Json:
    """A value of the contract as JSON.

    Raises:
        TypeError: it is of no kind that a file can hold.
    """
    if value is None or isinstance(value, bool | int | float | str):
        return value.value if isinstance(value, Enum) else value
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, PlanDocument):
        return {DOCUMENT: value.document}
    if isinstance(value, datetime):
        return value.isoformat()
    if is_dataclass(value) and not isinstance(value, type):
        return {
            f.name: encoded(getattr(value, f.name))
            for f in fields(value)
            if f.init and getattr(value, f.name) != _default(f)
        }
    if isinstance(value, Mapping):
        if all(isinstance(key, str) for key in value):
            return {str(key): encoded(each) for key, each in value.items()}
        return {PAIRS: [[encoded(key), encoded(each)] for key, each in value.items()]}
    if isinstance(value, AbstractSet):
        return sorted((encoded(each) for each in value), key=str)
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, Iterable):
        return [encoded(each) for each in value]
    raise TypeError(f"{type(value).__name__} cannot be written down")


def decoded(found: Json, wanted: Any, plan: Callable[[object], PlanDocument]) -> Any:
    """A value of a type from JSON; ``plan`` reads the document of a plan.

    Raises:
        ValueError: it is none of that type.
    """
    origin, inside = get_origin(wanted), get_args(wanted)
    if wanted is Any or wanted is object:
        return found
    if origin in (Union, types.UnionType):
        return _one_of(found, inside, plan)
    if wanted is PlanDocument:
        if not isinstance(found, Mapping) or DOCUMENT not in found:
            raise ValueError("a plan needs its document")
        return plan(found[DOCUMENT])
    if isinstance(wanted, type) and is_dataclass(wanted):
        return _object(found, wanted, plan)
    if origin is not None and issubclass(origin, Mapping):
        pairs = found[PAIRS] if isinstance(found, Mapping) and PAIRS in found else found.items()
        return {decoded(k, inside[0], plan): decoded(v, inside[1], plan) for k, v in pairs}
    if origin is tuple and not (len(inside) == 2 and inside[1] is Ellipsis):
        return tuple(decoded(each, one, plan) for each, one in zip(found, inside, strict=True))
    if origin is not None and issubclass(origin, AbstractSet):
        return frozenset(decoded(each, inside[0], plan) for each in found)
    if origin is not None and issubclass(origin, Sequence | Iterable):
        return tuple(decoded(each, inside[0], plan) for each in found)
    return _plain(found, wanted)


def _plain(found: Json, wanted: Any) -> Any:
    if wanted is datetime:
        return datetime.fromisoformat(found)
    if wanted is None or wanted is type(None):
        if found is not None:
            raise ValueError(f"nothing was expected, and {found!r} came")
        return None
    if isinstance(wanted, type) and issubclass(wanted, Enum):
        return wanted(found)
    if wanted is float and isinstance(found, int | float) and not isinstance(found, bool):
        return float(found)
    if wanted is bytes and isinstance(found, str):
        return found.encode()
    if isinstance(wanted, type) and not isinstance(found, wanted):
        raise ValueError(f"{found!r} is no {wanted.__name__}")
    return found


def _one_of(found: Json, kinds: Sequence[Any], plan: Callable[[object], PlanDocument]) -> Any:
    if found is None:
        return None
    failures = []
    for kind in kinds:
        if kind is type(None):
            continue
        try:
            return decoded(found, kind, plan)
        except (ValueError, TypeError, KeyError) as error:
            failures.append(str(error))
    raise ValueError("; ".join(failures))


def _object(found: Json, wanted: type, plan: Callable[[object], PlanDocument]) -> Any:
    if not isinstance(found, Mapping):
        raise ValueError(f"an object was expected for {wanted.__name__}")
    hints = _hints(wanted)
    unknown = set(found) - set(hints)
    if unknown:
        raise ValueError(f"{wanted.__name__} has no {', '.join(sorted(unknown))}")
    try:
        return wanted(**{key: decoded(each, hints[key], plan) for key, each in found.items()})
    except TypeError as error:
        raise ValueError(f"{wanted.__name__}: {error}") from error


@cache
def _hints(wanted: type) -> dict[str, Any]:
    """The types of a class's fields, as far as they are given when one is made."""
    known = get_type_hints(wanted)
    made = [f.name for f in fields(wanted) if f.init]
    return {name: known[name] for name in made}


def _default(one: Field[Any]) -> Any:
    if one.default is not MISSING:
        return one.default
    return one.default_factory() if one.default_factory is not MISSING else MISSING
