"""EXECUTE as a statement of SQL: the log has the text that was prepared in the DETAIL.

LOG:  duration: 12.5 ms  statement: EXECUTE near(7, 'open')
DETAIL:  prepare: PREPARE near AS SELECT * FROM buoy WHERE region_id = $1 AND state = $2;
"""

from __future__ import annotations

from collections.abc import Sequence

from humble_ledger.core.statements.tokens import Token, TokenKind, meaningful, split_statements

PREPARED = "prepare: "
_MOST_VALUES = 65_535  # what the protocol can carry
_CONSTANTS = (TokenKind.STRING, TokenKind.NUMBER)


def executed(sql: str, detail: str) -> tuple[str, str]:
    """The statement that was really run, and a DETAIL with its values.

    What it was given comes along when all of it is constants; else the values are unknown. An
    EXECUTE of which nothing is known stays as it is.
    """
    words = meaningful(sql)
    if len(words) < 2 or not words[0].is_word("execute"):
        return sql, detail
    name = words[1].text.lower()
    for text in split_statements(detail.removeprefix(PREPARED)):
        prepared = _prepared(text, name)
        if prepared:
            return prepared, _values(words[2:])
    return sql, detail


def _prepared(text: str, name: str) -> str:
    """What stands behind AS in PREPARE name (types) AS statement; "" when it is another one."""
    words = meaningful(text)
    if len(words) < 4 or not words[0].is_word("prepare") or words[1].text.lower() != name:
        return ""
    depth = 0
    for word in words[2:]:
        depth += (word.text == "(") - (word.text == ")")
        if not depth and word.is_word("as"):
            return text[word.end :].strip()
    return ""


def _values(words: Sequence[Token]) -> str:
    """The arguments as the server tells parameters: "Parameters: $1 = '7', $2 = NULL"."""
    if not words or words[0].text != "(":
        return ""
    listed: list[str] = []
    sign = ""
    for word in words[1:]:
        if word.text in (",", ")") and not sign:
            if word.text == ")":
                break
        elif word.text in ("-", "+") and not sign:
            sign = word.text.strip("+")
        elif word.is_word("null", "true", "false") and not sign:
            listed.append("NULL" if word.is_word("null") else f"'{word.text.lower()}'")
        elif word.kind in _CONSTANTS and (plain := _plain(word)) is not None:
            listed.append(f"'{sign}{plain}'")
            sign = ""
        else:
            return ""
    if len(listed) > _MOST_VALUES:
        return ""
    return "Parameters: " + ", ".join(f"${n} = {value}" for n, value in enumerate(listed, 1))


def _plain(word: Token) -> str | None:
    """A constant's value with its quotes still doubled; None for other kinds of strings."""
    if word.kind is TokenKind.NUMBER:
        return word.text
    return word.text[1:-1] if word.text.startswith("'") and "\n" not in word.text else None
