"""What may make a prediction wrong, in words; mostly nothing."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable

from humble_ledger.core.remedies.candidates.model import Access
from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.index_methods import IndexMethod

_OF_TABLE = re.compile(r"[^\s.]+\.[^\s.]+")
ROUGH = "size and cost of an inverted index are rough guesses before it is built"
ROUGHLY_SIZED = "the size of a tree of shapes is a rough guess before it is built"
GUESSED = "how many rows an expression finds is a guess until its statistics are gathered"
SAMPLED = (
    "rows are counted in a sample; the server knows the values of an expression only after its "
    "statistics were gathered"
)


def concerning(lacks: Iterable[str], tables: Collection[str]) -> list[str]:
    """Of what a copy lacks, what is of the whole of it or of one of these tables.

    What is of one table begins with its name, as "public.orders: no values …".
    """
    names = [(lack, lack.partition(": ")[0]) for lack in lacks]
    return [lack for lack, name in names if not _OF_TABLE.fullmatch(name) or name in tables]


def caution_of(access: Access, design: IndexDesign, *, guessed: bool) -> str:
    """What may make a prediction by formula wrong; ``guessed``: no value of it was seen."""
    cautions = []
    newest = any(p.operator in (">", ">=") for p in access.ranges)
    if newest and access.table.changes_since_analyze:
        cautions.append(
            "the range may reach past the statistics; with the index the server would see the "
            "true end, and its cost may be higher"
        )
    return "; ".join([*cautions, *_of_design(design, guessed)])


def caution_of_planner(design: IndexDesign, *, guessed: bool) -> str:
    """What may make the planner's prediction wrong: it looks up the ends of columns itself."""
    return "; ".join(_of_design(design, guessed))


def _of_design(design: IndexDesign, guessed: bool) -> list[str]:
    cautions = [ROUGH] if design.method == IndexMethod.INVERTED else []
    if design.method == IndexMethod.ENCLOSING:
        of_expression = any(key.expression for key in design.keys)
        return [ROUGHLY_SIZED, *([GUESSED] if of_expression else [])]
    told = GUESSED if guessed else SAMPLED
    return cautions + ([told] if any(key.expression for key in design.keys) else [])
