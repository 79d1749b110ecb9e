"""Comparisons turned so that the bare column stands alone on its side."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.dialect import Dialect
from humble_ledger.core.remedies.rewrites.model import Rewriting, and_all, conjuncts
from humble_ledger.core.remedies.rewrites.turned import absent, moments, numbers, texts
from humble_ledger.core.remedies.rewrites.turned.model import TURNED, Known, Turn
from humble_ledger.core.schema.facts import ColumnFacts, TableFacts, TableName

_RULES = (
    moments.whole_unit, moments.whole_day, moments.whole_year, moments.written_out,
    moments.beginning_of_text, moments.in_zone, moments.clock, moments.days_since,
    moments.moved_interval, moments.seconds, numbers.whole_number, numbers.moved_sum,
    numbers.moved_factor, texts.beginning, texts.with_nothing, texts.own_type, absent.stand_in,
    absent.null_safe,
)  # fmt: skip


def rewritings(
    sql: str, tables: Mapping[TableName, TableFacts], dialect: Dialect
) -> Iterator[Rewriting]:
    """The statement with each comparison turned that keeps an index from being used.

    All that can be turned is turned at once; nothing is given when there is none, or when the
    statement cannot be read.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=dialect.parser)
    except (SqlglotError, RecursionError):
        return
    turns = turn_all(tree, known_of(tree, tables, dialect))
    if turns:
        yield Rewriting(
            tree.sql(dialect=dialect.parser),
            "; ".join(dict.fromkeys(turn.done for turn in turns)),
            "; ".join(dict.fromkeys(turn.same_when for turn in turns if turn.same_when)),
        )


def turn_all(tree: exp.Expr, known: Known) -> list[Turn]:
    """Turn every comparison of a tree in its place, and give what was done."""
    turns = [turn for where in tree.find_all(exp.Where) for turn in _together(where, known)]
    for middle in list(tree.find_all(exp.Between)):
        turns += _apart(middle, known)
    for comparison in list(tree.find_all(exp.NullSafeEQ, exp.Like, *TURNED)):
        turn = _turned(comparison, known)
        if turn is not None:
            comparison.replace(turn.instead)
            turns.append(turn)
    return turns


def _turned(comparison: exp.Expr, known: Known) -> Turn | None:
    for rule in _RULES:
        turn = rule(comparison, known)
        if turn is not None:
            return turn
    return None


def _together(where: exp.Where, known: Known) -> list[Turn]:
    """What several conditions mean together is written once, in the place of the first."""
    parts = conjuncts(where.this)
    found = {id(part): turn for part, turn in moments.parts_of_day(parts, known)}
    if not found:
        return []
    kept: list[exp.Expr] = []
    done: list[Turn] = []
    for part in parts:
        turn = found.get(id(part))
        if turn is None:
            kept.append(part)
        elif turn not in done:
            done.append(turn)
            kept.append(turn.instead)
    where.set("this", and_all(kept))
    return done


def _apart(middle: exp.Expr, known: Known) -> list[Turn]:
    """BETWEEN as its two comparisons, where both can be turned."""
    if isinstance(middle.this.unnest(), exp.Column) or middle.args.get("symmetric"):
        return []
    low = exp.GTE(this=middle.this.copy(), expression=middle.args["low"].copy())
    high = exp.LTE(this=middle.this.copy(), expression=middle.args["high"].copy())
    turns = [_turned(each, known) for each in (low, high)]
    if turns[0] is None or turns[1] is None:
        return []
    middle.replace(exp.paren(exp.and_(turns[0].instead, turns[1].instead)))
    return [turns[0], turns[1]]


def known_of(tree: exp.Expr, tables: Mapping[TableName, TableFacts], dialect: Dialect) -> Known:
    """What is known of the columns of a statement."""

    def type_of(column: exp.Column) -> str:
        types = {facts.type_name for facts in _facts(tree, column, tables)}
        return types.pop() if len(types) == 1 else ""

    def never_null(column: exp.Column) -> bool:
        found = _facts(tree, column, tables)
        outer = any(join.side for join in tree.find_all(exp.Join))
        return bool(found) and not outer and all(facts.not_null for facts in found)

    return Known(type_of, never_null, dialect)


def _facts(
    tree: exp.Expr, column: exp.Column, tables: Mapping[TableName, TableFacts]
) -> Sequence[ColumnFacts]:
    """The columns that a name may mean."""
    aliases = {t.alias_or_name: t.name for t in tree.find_all(exp.Table)}
    named = aliases.get(column.table, column.table)
    return [
        facts.columns[column.name]
        for name, facts in tables.items()
        if column.name in facts.columns and named in ("", name.name)
    ]
