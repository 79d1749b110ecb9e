"""DuckDB's conditions in the notation of the core: next to the same, but without tables' names."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from humble_ledger.core.plans.model import Operation
from humble_ledger.engines.elsewhere.drafts import Draft

_COMPARED = re.compile(
    r"^\(*(?P<left>.+?)\s*(?P<sign>IS NOT DISTINCT FROM|IS DISTINCT FROM|<=|>=|!=|<>|=|<|>)\s*"
    r"(?P<right>.+?)\)*$"
)
_NAME = re.compile(r"(?<![\w.'#\"])[a-zA-Z_]\w*(?![\w.('])")
_WORDS = frozenset("cast as and or not is null distinct from in between like true false".split())


def noted(text: str) -> str:
    """A condition in brackets; "" for none."""
    bare = text.strip().removeprefix("optional:").strip()
    if not bare:
        return ""
    return bare if bare.startswith("(") and bare.endswith(")") else f"({bare})"


@dataclass(frozen=True, slots=True)
class JoinSides:
    """The tables on both sides of a join, by the columns that each gives out."""

    left: dict[str, str]
    right: dict[str, str]

    @classmethod
    def of(cls, sides: Sequence[Draft]) -> JoinSides:
        """The sides of a join with these inputs."""
        found = [dict(_given(side)) for side in sides[:2]]
        return cls(*[*found, {}, {}][:2])

    def noted(self, text: str) -> str:
        """A condition of the join, each column with its table where only one can be meant."""
        found = _COMPARED.match(text.strip())
        if found is None:
            return noted(text)
        left, right = _owned(found["left"], self.left), _owned(found["right"], self.right)
        return f"({left} {found['sign']} {right})"


def _given(side: Draft) -> Iterator[tuple[str, str]]:
    """Each column of one side with its table; none for a name that two tables have."""
    owners: dict[str, set[str]] = {}
    for draft in side.walk():
        if draft.operation in (Operation.FULL_SCAN, Operation.INDEX_SCAN):
            for column in draft.more.get("output", ()):
                owners.setdefault(column, set()).add(str(draft.more.get("relation", "")))
    yield from ((column, min(each)) for column, each in owners.items() if len(each) == 1)


def _owned(text: str, owners: dict[str, str]) -> str:
    def named(match: re.Match[str]) -> str:
        word = match[0]
        owner = owners.get(word, "")
        return f"{owner}.{word}" if owner and word.lower() not in _WORDS else word

    return _NAME.sub(named, text)
