"""Every comparison of a tree turned, by whichever rule knows how."""

from __future__ import annotations

import re
from collections.abc import Sequence

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from humble_ledger.core.dialect import STANDARD, Dialect
from humble_ledger.core.schema.facts import TableFacts
from humble_ledger.core.statements.conjuncts import and_all, conjuncts
from humble_ledger.core.statements.turned import (
    absent,
    arrays,
    intervals,
    numbers,
    texts,
    units,
    written,
)
from humble_ledger.core.statements.turned.model import TURNED, Known, Turn

_RULES = (
    units.whole_unit, units.whole_day, units.whole_year, written.written_out,
    written.beginning_of_text, intervals.in_zone, intervals.clock, intervals.days_since,
    intervals.moved_interval, units.seconds, numbers.whole_number, numbers.moved_sum,
    numbers.moved_factor, texts.beginning, texts.contained, texts.with_nothing, texts.padded,
    texts.own_type, texts.label, absent.stand_in,
    absent.null_safe, arrays.element,
)  # fmt: skip

_AS_NUMBER = re.compile(r"'(-?\d+(?:\.\d+)?)'::(?:numeric|smallint|integer|bigint)\b")
_AS_TEXT = re.compile(r"('(?:[^']|'')*')::(?:text|character varying)\b")


def turn_all(tree: exp.Expr, known: Known) -> list[Turn]:
    """Turn every comparison of a tree in its place, and give what was done."""
    turns = [turn for where in tree.find_all(exp.Where) for turn in _together(where, known)]
    for middle in list(tree.find_all(exp.Between)):
        turns += _apart(middle, known)
    for comparison in list(tree.find_all(exp.NullSafeEQ, exp.NEQ, exp.Like, *TURNED)):
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
    found = {id(part): turn for part, turn in units.parts_of_day(parts, known)}
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


def turned_condition(
    conditions: Sequence[str], table: TableFacts, dialect: Dialect = STANDARD
) -> str | None:
    """The conditions of one table's step with all turned that can be; None when none can be.

    They are in the notation of plans. Of an expression a planner knows nothing and takes a guess;
    of the column alone it knows what the column's statistics tell. So for its estimate alone they
    may differ at an edge.
    """
    columns = table.columns
    known = Known(
        lambda column: columns[column.name].type_name if column.name in columns else "",
        lambda column: column.name in columns and columns[column.name].not_null,
        dialect,
        lambda column: column.name in columns and columns[column.name].labelled,
    )
    # Constants are what they are without being told to be, and so the parser reads them best.
    whole = " AND ".join(f"({text})" for text in conditions)
    whole = _AS_TEXT.sub(r"\1", _AS_NUMBER.sub(r"\1", whole))
    try:
        tree = sqlglot.parse_one(f"SELECT 1 WHERE {whole}", dialect=STANDARD.parser)
    except (SqlglotError, RecursionError):
        return None
    turned, where = turn_all(tree, known), tree.find(exp.Where)
    return where.this.sql(dialect=STANDARD.parser) if turned and where else None
