"""Conditions on where things lie, turned so that an index of shapes can find the rows."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from sqlglot import exp

from humble_ledger.core.remedies.rewrites.model import Reading, Rewriting, plain
from humble_ledger.core.statements.conjuncts import and_all, conjuncts

# Whether they hold does not depend on the unit that places are measured in.
_TOPOLOGICAL = frozenset(
    "st_intersects st_contains st_within st_covers st_coveredby st_overlaps st_crosses".split()
)
_PLANE = re.compile(r"geometry\b")
_SYSTEM = re.compile(r"geometry\(\w+,(\d+)\)")
_NEAR = (exp.LT, exp.LTE)


def by_shapes(reading: Reading) -> Iterator[Rewriting]:
    """All conditions that can be turned are turned at once; then the order by distance."""
    tree = reading.tree
    where = tree.args.get("where")
    turned, done, when = [], [], []
    for part in conjuncts(where.this if where is not None else None):
        for rule in (_within_distance, _converted_constant):
            found = rule(reading, part)
            if found is not None:
                turned.append(found.instead)
                done.append(found.done)
                when.append(found.same_when)
                break
        else:
            turned.append(part)
    box = _box(reading, turned)
    if box is not None:
        turned.insert(0, box.instead)
        done.append(box.done)
    if done:
        made = reading.copy()
        made.set("where", exp.Where(this=and_all(turned)))
        yield Rewriting(
            reading.written(made),
            "; ".join(dict.fromkeys(done)),
            "; ".join(dict.fromkeys(filter(None, when))),
            always_asked=True,
        )
    yield from _nearest(reading)


@dataclass(frozen=True, slots=True)
class _Turn:
    instead: exp.Expr
    done: str
    same_when: str = ""


def _within_distance(reading: Reading, part: exp.Expr) -> _Turn | None:
    """ST_Distance(a, b) < r  →  ST_DWithin(a, b, r) and still ST_Distance(a, b) < r."""
    if not isinstance(part, _NEAR):
        return None
    distance, reach = part.this.unnest(), part.expression.unnest()
    arguments = _arguments(distance, "st_distance")
    if len(arguments) != 2 or not _is_number(reach) or not _names_a_shape(reading, distance):
        return None
    within = exp.Anonymous(this="ST_DWithin", expressions=[a.copy() for a in (*arguments, reach)])
    instead: exp.Expr = within
    if isinstance(part, exp.LT):  # which leaves out those exactly so far away
        instead = exp.paren(exp.and_(within, part.copy()))
    known = isinstance(reach, exp.Literal)
    return _Turn(
        instead,
        "what lies within the distance searched for",
        "" if known else "the distance is not negative",
    )


def _converted_constant(reading: Reading, part: exp.Expr) -> _Turn | None:
    """ST_Intersects(ST_Transform(c, 3857), k)  →  ST_Intersects(c, ST_Transform(k, 4326))."""
    name = _name(part)
    arguments = _arguments(part, name)
    if name not in _TOPOLOGICAL or len(arguments) != 2:
        return None
    for place, argument in enumerate(arguments):
        inner = _arguments(argument, "st_transform")
        other = arguments[1 - place]
        if len(inner) != 2 or not isinstance(inner[0], exp.Column) or _columns(other):
            continue
        system = _SYSTEM.match(_type_of(reading, inner[0]))
        if system is None or system[1] == "0":
            continue
        converted = exp.Anonymous(
            this="ST_Transform", expressions=[other.copy(), exp.Literal.number(system[1])]
        )
        sides = [inner[0].copy(), converted]
        call = exp.Anonymous(this=part.name, expressions=sides if place == 0 else sides[::-1])
        return _Turn(
            call,
            f"the constant converted to the projection of {inner[0].name}, not every value",
            "no shape lies so near the other's edge that the projection decides (an edge is "
            "straight in one of them only)",
        )
    return None


def _box(reading: Reading, parts: list[exp.Expr]) -> _Turn | None:
    """ST_X(c) and ST_Y(c) each between two numbers  →  and c in the box of these."""
    ends: dict[tuple[str, str], dict[str, exp.Expr]] = {}
    columns: dict[str, exp.Column] = {}
    for part in parts:
        for axis, column, end, value in _bounds(part):
            key = column.sql()
            columns[key] = column
            ends.setdefault((key, axis), {})[end] = value
    for key, column in columns.items():
        x, y = ends.get((key, "st_x"), {}), ends.get((key, "st_y"), {})
        system = re.match(r"geometry\(Point,(\d+)\)", _type_of(reading, column), re.IGNORECASE)
        if len(x) < 2 or len(y) < 2 or system is None:
            continue
        corners = (x["low"], y["low"], x["high"], y["high"], exp.Literal.number(system[1]))
        box = exp.Anonymous(this="ST_MakeEnvelope", expressions=[c.copy() for c in corners])
        return _Turn(
            exp.ArrayOverlaps(this=column.copy(), expression=box),
            f"{column.name} searched for in the box of its bounds",
        )
    return None


def _bounds(part: exp.Expr) -> Iterator[tuple[str, exp.Column, str, exp.Expr]]:
    """(axis, column, "low" or "high", value) of a comparison of one coordinate with a number."""
    if isinstance(part, exp.Between):
        sides = [("low", part.this, part.args["low"]), ("high", part.this, part.args["high"])]
    elif isinstance(part, exp.GTE | exp.GT):
        sides = [("low", part.this, part.expression)]
    elif isinstance(part, exp.LTE | exp.LT):
        sides = [("high", part.this, part.expression)]
    else:
        return
    for end, call, value in sides:
        axis, arguments = _name(call), _arguments(call, _name(call))
        if (
            axis in ("st_x", "st_y")
            and len(arguments) == 1
            and isinstance(arguments[0], exp.Column)
            and _is_number(value)
        ):
            yield axis, arguments[0], end, value


def _nearest(reading: Reading) -> Iterator[Rewriting]:
    """ORDER BY ST_Distance(c, k) LIMIT n  →  ORDER BY c <-> k LIMIT n."""
    tree = reading.tree
    order = tree.args.get("order")
    if order is None or not tree.args.get("limit") or not plain(tree, "group", "distinct"):
        return
    first = order.expressions[0]
    arguments = _arguments(first.this, "st_distance")
    if len(arguments) != 2 or first.args.get("desc"):
        return
    shape = [a for a in arguments if isinstance(a, exp.Column)]
    if len(shape) != 1 or not _PLANE.match(_type_of(reading, shape[0])):
        return
    made = reading.copy()
    distance = exp.Distance(this=arguments[0].copy(), expression=arguments[1].copy())
    made.args["order"].expressions[0].set("this", distance)
    yield Rewriting(
        reading.written(made),
        f"the nearest by {shape[0].name} read in the order of the index",
        f"no {shape[0].name} is empty; rows equally far away may come in another order",
        always_asked=True,
    )


def _name(part: exp.Expr) -> str:
    return str(part.name).lower() if isinstance(part, exp.Anonymous) else ""


def _arguments(part: exp.Expr, name: str) -> list[exp.Expr]:
    """The arguments of a call of this function; none for anything else."""
    if not name or _name(part) != name:
        return []
    return [each.unnest() for each in part.expressions]


def _is_number(value: exp.Expr) -> bool:
    value = value.unnest()
    inner = value.this if isinstance(value, exp.Neg) else value
    return isinstance(inner, exp.Parameter) or (
        isinstance(inner, exp.Literal) and not inner.is_string
    )


def _columns(part: exp.Expr) -> list[exp.Column]:
    return list(part.find_all(exp.Column))


def _names_a_shape(reading: Reading, part: exp.Expr) -> bool:
    return any(_type_of(reading, c).startswith(("geometry", "geography")) for c in _columns(part))


def _type_of(reading: Reading, column: exp.Column) -> str:
    facts = reading.tables.get(reading.alias_of(column))
    known = facts.columns.get(column.name) if facts is not None else None
    return known.type_name if known is not None else ""
