"""What AND joins, taken apart and put together."""

from __future__ import annotations

from collections.abc import Iterable

from sqlglot import exp


def conjuncts(condition: exp.Expr | None) -> list[exp.Expr]:
    """The parts that AND joins, without brackets around them."""
    if condition is None:
        return []
    return (
        [part.unnest() for part in condition.unnest().flatten()]
        if isinstance(condition.unnest(), exp.And)
        else [condition.unnest()]
    )


def and_all(parts: Iterable[exp.Expr]) -> exp.Expr | None:
    """The parts joined by AND; None for none."""
    kept = [exp.paren(p.copy()) if isinstance(p, exp.Or) else p.copy() for p in parts]
    return exp.and_(*kept, copy=False) if kept else None
