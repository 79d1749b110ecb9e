"""Conditions out of a plan, made ready to be asked of the planner by themselves.

What a plan prints is no statement: it names values of sub-queries and columns of other tables.
Neither is known when the condition is planned, which is what a parameter says.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from humble_ledger.core.statements.tokens import Token, TokenKind, tokens, unquoted

_SUB_QUERY_VALUE = re.compile(r"\((?:InitPlan|SubPlan) \d+\)(?:\.col\d+)?")
_SUB_QUERY = re.compile(r"\b(?:InitPlan|SubPlan) \d")
_NAMES = (TokenKind.WORD, TokenKind.QUOTED)


def askable(conditions: Sequence[str], alias: str) -> list[str] | None:
    """The conditions on one table with parameters in place of what only the whole plan knows.

    None when a sub-query stands in them that is no value.
    """
    number = 0
    found = []
    for condition in conditions:
        text = _SUB_QUERY_VALUE.sub("$0", condition)
        if _SUB_QUERY.search(text):
            return None
        kept, said, at = list(tokens(text)), "", 0
        while at < len(kept):
            if kept[at].kind is TokenKind.PARAMETER:
                number += 1
                said += f"${number}"
                at += 1
            elif _is_of_another(kept, at, alias):
                number += 1
                said += f"${number}"
                at += 3
            else:
                said += kept[at].text
                at += 1
        found.append(said)
    return found


def _is_of_another(kept: Sequence[Token], at: int, alias: str) -> bool:
    """Whether "other.column" begins here; not a function's or a type's schema."""
    if at + 2 >= len(kept) or kept[at + 1].text != "." or kept[at].kind not in _NAMES:
        return False
    if kept[at + 2].kind not in _NAMES or unquoted(kept[at].text) == alias:
        return False
    before = kept[at - 1].text if at else ""
    behind = kept[at + 3].text if at + 3 < len(kept) else ""
    return before not in ("::", ".") and behind not in ("(", ".") and not _names_collation(kept, at)


def _names_collation(kept: Sequence[Token], at: int) -> bool:
    words = [token for token in kept[:at] if token.kind is not TokenKind.SPACE]
    return bool(words) and words[-1].is_word("collate", "operator")
