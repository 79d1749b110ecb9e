"""Rewritings as remedies, for statements in whose plan something costs time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.remedies.model import Remedy, remedy_of
from humble_ledger.core.remedies.operations import RewriteStatement
from humble_ledger.core.remedies.rewrites.model import Rewriting
from humble_ledger.core.remedies.rewrites.registry import rewritings
from humble_ledger.core.schema.facts import TableFacts, TableName
from humble_ledger.core.statements.kinds import StatementKind, kind_of
from humble_ledger.core.symptoms.model import Symptom

_FINE = "scan-is-right"


def rewrite_remedies(
    sql: str,
    tables: Mapping[TableName, TableFacts],
    found: Iterable[Symptom],
    query: str,
    dialect: Dialect = STANDARD,
) -> Iterator[Remedy]:
    """The statement written otherwise; reads only, and mostly only where something costs time.

    Whether one is any good is for the server's planner to say.
    """
    cures = tuple(dict.fromkeys(s.name for s in found if s.name != _FINE))
    if kind_of(sql) is not StatementKind.READS:
        return
    for each in rewritings(sql, tables, dialect):
        if not cures and not each.always_asked:
            continue
        against = tuple(name for name in cures if name in each.against)
        sent = remedy_of(
            RewriteStatement(sql.strip().rstrip(";"), each.sql, each.values_from),
            f"the statement with {each.done}" if not each.question else each.done,
            dialect,
            reason=_reason(each),
            cures=against or cures,
            queries=(query,),
        )
        yield replace(sent, direct=bool(against), question=each.question)


def _reason(each: Rewriting) -> str:
    if each.question:
        return f"only someone who knows the purpose can say; it is right when {each.same_when}"
    if not each.same_when:
        return "the result is always the same"
    return f"the result is the same when {each.same_when}"
