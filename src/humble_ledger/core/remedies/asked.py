"""Remedies that a user writes down: a new text, a setting, a change with its way back."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.remedies.model import Remedy, remedy_of
from humble_ledger.core.remedies.operations import Custom, RewriteStatement, SetSettings
from humble_ledger.core.statements.kinds import StatementKind, kind_of, one_statement
from humble_ledger.core.statements.tokens import meaningful
from humble_ledger.core.trials.tried import TriedQuery
from humble_ledger.errors import RefusedForSafety, WrongUsage

ASKED_FOR = "asked for"
_SETTING = re.compile(r"[a-z_][\w.]*")
# What a transaction can hold and take back; COPY, DO or NOTIFY act outside of it, COMMIT ends it.
# It must be the very first word: where a comment ends is not for us to say.
_COMMANDS = frozenset(
    """alter analyze cluster comment create drop grant import reassign refresh reindex reset revoke
    security select set truncate with""".split()
)
_FIRST_WORD = re.compile(r"[ \t\r\n]*([A-Za-z]+)\b")
_SHOWN = 60


def rewritten(query: str, old: str, new: str) -> Remedy:
    """The remedy "send this instead" for one query.

    Raises:
        UnreadableInput: the new text is no single statement.
    """
    return remedy_of(
        RewriteStatement(old.strip().rstrip(";"), one_statement(new)),
        "the statement written by hand",
        STANDARD,
        reason=ASKED_FOR,
        queries=(query,),
    )


def setting(text: str, dialect: Dialect = STANDARD) -> Remedy:
    """The remedy "name=value" for one session.

    Raises:
        WrongUsage: it is not of that form.
    """
    said, _, given = text.partition("=")
    name, value = said.strip().lower(), given.strip().strip("'")
    if not _SETTING.fullmatch(name) or not value:
        raise WrongUsage(
            f'"{text}" is not a setting.', f"Write it like  --set {dialect.setting_example}"
        )
    words = f"{name} = {value} for one session"
    return remedy_of(SetSettings(((name, value),)), words, dialect, reason=ASKED_FOR)


def change(applies: Sequence[str], reverts: Sequence[str]) -> Remedy:
    """The remedy that any statements are, with those that undo them.

    Raises:
        RefusedForSafety: one of them changes data, or would end the transaction that a trial
            rolls back.
        WrongUsage: there is nothing to apply, or no way back.
    """
    if not applies or not reverts:
        raise WrongUsage(
            "A change of your own needs both its ways: --apply and --revert.",
            "Both may be repeated; the trial itself only rolls back, a migration needs both.",
        )
    for text in applies:
        if kind_of(text) is StatementKind.CHANGES:
            raise RefusedForSafety(
                f'"{" ".join(text.split())[:_SHOWN]}" changes data, and a trial changes only how '
                "data is stored and found.",
                "Prepare the data before, on a copy, and try what follows from it.",
            )
    forward, backward = tuple(map(_safe, applies)), tuple(map(_safe, reverts))
    first = " ".join(forward[0].split())
    words = first if len(first) <= _SHOWN else f"{first[: _SHOWN - 1]}…"
    more = f" and {len(forward) - 1} more" if len(forward) > 1 else ""
    return remedy_of(Custom(forward, backward), f"{words}{more}", STANDARD, reason=ASKED_FOR)


def _safe(text: str) -> str:
    sql = one_statement(text)
    first = _FIRST_WORD.match(sql)
    concurrently = any(token.is_word("concurrently") for token in meaningful(sql))
    if first is None or first[1].lower() not in _COMMANDS or concurrently:
        raise RefusedForSafety(
            f'"{" ".join(sql.split())[:_SHOWN]}" cannot be tried: a trial makes its changes in a '
            "transaction that it rolls back, and this may end it, or act outside of it.",
            "Begin with CREATE, ALTER, DROP, SET or the like, without a comment before it.",
        )
    return sql.strip().rstrip(";")


@dataclass(frozen=True, slots=True)
class Written:
    """All that a user wrote down for one trial: a new text, settings, a change and its way back."""

    rewrite: str = ""
    settings: tuple[str, ...] = ()
    applies: tuple[str, ...] = ()
    reverts: tuple[str, ...] = ()

    def remedies(self, tried: Sequence[TriedQuery], dialect: Dialect) -> list[Remedy]:
        """Them as remedies, for the queries they are tried on.

        Raises:
            WrongUsage: a new text for several queries, or a change without its way back.
        """
        found = [setting(text, dialect) for text in self.settings]
        if self.applies or self.reverts:
            found.append(change(self.applies, self.reverts))
        if self.rewrite:
            if len(tried) != 1:
                raise WrongUsage(
                    "A new text stands for one statement, so it is tried on one query.",
                    "Use  humble trial q3 --rewrite new.sql",
                )
            found.append(rewritten(tried[0].query, tried[0].statement.sql, self.rewrite))
        return found
