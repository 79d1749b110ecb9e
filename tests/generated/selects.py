"""SELECT statements drawn at random over a schema: every construct, in every place."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from random import Random

from tests.generated.schemas import Column, Schema, Table, quoted

_DEEPEST = 2
_NUMBERS = ("int", "bigint", "smallint", "numeric", "float8")
_TEXTS = ("text", "varchar", "char")
_MOMENTS = ("timestamptz", "timestamp", "date")


@dataclass(frozen=True)
class _Source:
    """Something in FROM: what it is called, and its columns."""

    alias: str
    columns: tuple[Column, ...]
    table: Table | None = None

    def of(self, *families: str) -> list[str]:
        return [f"{self.alias}.{quoted(c.name)}" for c in self.columns if c.family in families]


@dataclass
class Writer:
    """Writes one statement after the other."""

    schema: Schema
    random: Random
    _aliases: int = 0
    _ctes: list[_Source] = field(default_factory=list)

    def statement(self) -> str:
        """A SELECT, with constructs of any kind around it."""
        self._ctes = []
        r = self.random
        with_ = ""
        if r.random() < 0.25:
            with_ = self._cte()
        made = self._select(0, [])
        kind = r.random()
        if kind < 0.08:
            source = self._alias()
            made = f"SELECT count(*) FROM ({made}) {source}"
        elif kind < 0.16:
            other = self._select(1, [], shape=["int"])
            word = r.choice(("UNION", "UNION ALL", "INTERSECT", "EXCEPT"))
            made = f"{self._select(1, [], shape=['int'])} {word} {other}"
        elif kind < 0.2:
            table = r.choice(self.schema.tables)
            made = self._recursive(table)
        return f"{with_}{made}"

    def _cte(self) -> str:
        name = self._alias()
        table = self.random.choice(self.schema.tables)
        apart = self.random.choice(("", "", "MATERIALIZED ", "NOT MATERIALIZED "))
        source = _Source("c", table.columns, table)
        where = self._where([source], _DEEPEST)
        self._ctes.append(_Source(name, table.columns))
        return f"WITH {name} AS {apart}(SELECT * FROM {quoted(table.name)} c{where}) "

    def _recursive(self, table: Table) -> str:
        key = quoted(table.columns[0].name)
        return (
            f"WITH RECURSIVE r (n) AS (SELECT min({key}) FROM {quoted(table.name)} UNION ALL "
            f"SELECT n + 1 FROM r WHERE n < 5) SELECT r.n, count(t.*) FROM r LEFT JOIN "
            f"{quoted(table.name)} t ON t.{key} = r.n GROUP BY r.n"
        )

    def _alias(self) -> str:
        self._aliases += 1
        return f"t{self._aliases}"

    def _select(self, depth: int, outer: Sequence[_Source], shape: Sequence[str] = ()) -> str:
        r = self.random
        text, sources = self._from(depth, outer)
        everything = [*sources, *outer]
        where = self._where(everything, depth)
        if shape:
            return f"SELECT {self._value('int', sources) or '1'} FROM {text}{where}"
        kind = r.random()
        if kind < 0.25:
            return self._grouped(text, sources, where)
        shown = self._shown(everything, sources, depth)
        distinct = ""
        order = self._order(sources)
        if kind < 0.35:
            distinct = "DISTINCT "
            order = ""
        elif kind < 0.42 and (first := self._value("int", sources)):
            distinct = f"DISTINCT ON ({first}) "
            order = f" ORDER BY {first}"
        lock = limit = ""
        if r.random() < 0.35:
            limit = f" LIMIT {r.choice((1, 5, 100))}"
            limit += f" OFFSET {r.choice((1, 50))}" if r.random() < 0.3 else ""
            if order and r.random() < 0.2:
                limit = f" FETCH FIRST {r.choice((1, 10))} ROWS WITH TIES"
        plain = all(s.table is not None for s in sources) and not distinct
        if depth == 0 and plain and not self._ctes and r.random() < 0.06 and "TIES" not in limit:
            lock = r.choice((" FOR UPDATE", " FOR SHARE"))
        return f"SELECT {distinct}{shown} FROM {text}{where}{order}{limit}{lock}"

    def _from(self, depth: int, outer: Sequence[_Source]) -> tuple[str, list[_Source]]:
        r = self.random
        text, first = self._source(depth)
        sources = [first]
        for _ in range(r.choice((0, 0, 1, 1, 2, 3)) if depth < _DEEPEST else 0):
            if r.random() < 0.12 and depth < _DEEPEST:
                alias = self._alias()
                table = r.choice(self.schema.tables)
                inner = _Source("l", table.columns, table)
                tie = self._tie(inner, sources) or "true"
                shown = ", ".join(inner.of(*_FAMILIES)[:3]) or "1"
                kept = tuple(table.columns[:3])
                text += (
                    f" {r.choice(('CROSS JOIN', 'LEFT JOIN'))} LATERAL (SELECT {shown} FROM "
                    f"{quoted(table.name)} l WHERE {tie} LIMIT 3) {alias}"
                )
                text += (
                    " ON true"
                    if " LEFT JOIN LATERAL" in text[-len(text) :]
                    and text.rfind("LEFT JOIN LATERAL") > text.rfind("CROSS JOIN LATERAL")
                    else ""
                )
                sources.append(_Source(alias, kept))
                continue
            more, source = self._source(depth)
            tie = self._tie(source, sources)
            word = r.choice(("JOIN", "JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN"))
            if tie is None:
                text += f" CROSS JOIN {more}"
            else:
                extra = f" AND {self._condition([source], _DEEPEST)}" if r.random() < 0.3 else ""
                word = "LEFT JOIN" if word == "FULL JOIN" and extra else word
                text += f" {word} {more} ON {tie}{extra}"
            sources.append(source)
        return text, sources

    def _source(self, depth: int) -> tuple[str, _Source]:
        r = self.random
        alias = self._alias()
        if self._ctes and r.random() < 0.4:
            cte = r.choice(self._ctes)
            return f"{cte.alias} AS {alias}", _Source(alias, cte.columns)
        table = r.choice(self.schema.tables)
        if depth < _DEEPEST and r.random() < 0.15:
            inner = _Source("s", table.columns, table)
            text = f"(SELECT * FROM {quoted(table.name)} s{self._where([inner], depth + 1)})"
            return f"{text} {alias}", _Source(alias, table.columns)
        sampled = ""
        if r.random() < 0.04 and not table.name.startswith("seen_"):
            sampled = f" TABLESAMPLE {r.choice(('SYSTEM', 'BERNOULLI'))} (30)"
        return f"{quoted(table.name)} {alias}{sampled}", _Source(alias, table.columns, table)

    def _tie(self, source: _Source, others: Sequence[_Source]) -> str | None:
        r = self.random
        if source.table is not None and source.table.refers:
            for other in others:
                if other.table is not None and other.table.name == source.table.parent:
                    return (
                        f"{source.alias}.{quoted(source.table.refers)} = "
                        f"{other.alias}.{quoted(other.table.columns[0].name)}"
                    )
        other = r.choice(list(others))
        for families in r.sample((_NUMBERS, _TEXTS, _MOMENTS, ("uuid",)), 4):
            mine, theirs = source.of(*families), other.of(*families)
            if mine and theirs:
                return f"{r.choice(mine)} = {r.choice(theirs)}"
        return None

    def _where(self, sources: Sequence[_Source], depth: int) -> str:
        if self.random.random() < 0.15:
            return ""
        parts = [self._condition(sources, depth) for _ in range(self.random.choice((1, 1, 2, 3)))]
        if len(parts) > 1 and self.random.random() < 0.3:
            return f" WHERE ({' OR '.join(parts)})"
        return f" WHERE {' AND '.join(parts)}"

    def _condition(self, sources: Sequence[_Source], depth: int) -> str:
        r = self.random
        if depth < _DEEPEST and r.random() < 0.25:
            return self._nested(sources, depth)
        for make in r.sample(_CONDITIONS, len(_CONDITIONS)):
            found = make(self, sources)
            if found is not None:
                return f"NOT ({found})" if r.random() < 0.08 else found
        return "true"

    def _nested(self, sources: Sequence[_Source], depth: int) -> str:
        r = self.random
        table = r.choice(self.schema.tables)
        alias = self._alias()
        inner = _Source(alias, table.columns, table)
        tie = self._tie(inner, sources) if r.random() < 0.7 else None
        more = self._condition([inner], depth + 1)
        where = f" WHERE {tie} AND {more}" if tie else f" WHERE {more}"
        from_ = f"FROM {quoted(table.name)} {alias}{where}"
        mine, theirs = self._value("int", [inner]), self._value("int", sources)
        if mine is None or theirs is None or r.random() < 0.4:
            return f"{r.choice(('', 'NOT '))}EXISTS (SELECT 1 {from_})"
        kind = r.random()
        if kind < 0.35:
            return f"{theirs} {r.choice(('IN', 'NOT IN'))} (SELECT {mine} {from_})"
        if kind < 0.6:
            return f"{theirs} {r.choice(('=', '<', '>='))} (SELECT max({mine}) {from_})"
        if kind < 0.8:
            return f"{theirs} {r.choice(('= ANY', '< ALL', '> ANY'))} (SELECT {mine} {from_})"
        return f"({theirs}, {theirs}) IN (SELECT {mine}, {mine} {from_})"

    def _value(self, family: str, sources: Sequence[_Source]) -> str | None:
        families = _NUMBERS[:3] if family == "int" else (family,)
        found = [value for source in sources for value in source.of(*families)]
        return self.random.choice(found) if found else None

    def _shown(self, every: Sequence[_Source], sources: Sequence[_Source], depth: int) -> str:
        r = self.random
        if r.random() < 0.15:
            return "*"
        columns = [c for s in sources for c in s.of(*_FAMILIES)]
        parts = r.sample(columns, min(len(columns), r.randint(1, 4)))
        number = self._value("int", sources)
        if number and r.random() < 0.2:
            by = r.choice(columns)
            parts.append(
                f"{r.choice(('row_number()', 'rank()', f'sum({number})', f'lag({number})'))} "
                f"OVER (PARTITION BY {number} ORDER BY {by if 'json' not in by else number})"
            )
        if r.random() < 0.15 and depth < _DEEPEST:
            table = r.choice(self.schema.tables)
            inner = _Source("q", table.columns, table)
            tie = self._tie(inner, every) or "true"
            parts.append(f"(SELECT count(*) FROM {quoted(table.name)} q WHERE {tie})")
        if r.random() < 0.1:
            with_rows = [s for s in sources if s.table and not s.table.name.startswith("seen_")]
            parts += [f"{s.alias}.{r.choice(('ctid', 'xmin', 'tableoid'))}" for s in with_rows[:1]]
        if r.random() < 0.1 and number:
            parts.append(f"CASE WHEN {number} > 3 THEN 'many' ELSE 'few' END")
        return ", ".join(parts) or "1"

    def _grouped(self, text: str, sources: Sequence[_Source], where: str) -> str:
        r = self.random
        keys = [v for s in sources for v in s.of(*_NUMBERS[:3], *_TEXTS, "date", "boolean")]
        some = r.sample(keys, min(len(keys), r.randint(1, 2)))
        number = self._value("int", sources)
        what = ["count(*)"]
        if number:
            what += [f"max({number})", f"count(DISTINCT {number})",
                     f"sum({number}) FILTER (WHERE {number} > 1)"]  # fmt: skip
        shown = ", ".join([*some, r.choice(what)])
        if not some:
            return f"SELECT {r.choice(what)} FROM {text}{where}"
        form = r.choice(("{}", "{}", "ROLLUP ({})", "CUBE ({})", "GROUPING SETS (({}), ())"))
        having = " HAVING count(*) > 1" if r.random() < 0.2 else ""
        order = " ORDER BY 1" if r.random() < 0.3 else ""
        limit = " LIMIT 10" if r.random() < 0.2 else ""
        return (
            f"SELECT {shown} FROM {text}{where} GROUP BY {form.format(', '.join(some))}"
            f"{having}{order}{limit}"
        )

    def _order(self, sources: Sequence[_Source]) -> str:
        r = self.random
        values = [v for s in sources for v in s.of(*_NUMBERS, *_TEXTS, *_MOMENTS)]
        if not values or r.random() < 0.5:
            return ""
        some = r.sample(values, min(len(values), r.choice((1, 1, 2))))
        how = [r.choice(("", " DESC", " DESC NULLS LAST", " NULLS FIRST")) for _ in some]
        return " ORDER BY " + ", ".join(v + h for v, h in zip(some, how, strict=True))


Condition = Callable[[Writer, Sequence[_Source]], str | None]
_FAMILIES = (*_NUMBERS, *_TEXTS, *_MOMENTS, "boolean", "uuid", "inet", "int[]", "interval")


def _over(families: tuple[str, ...], *forms: str) -> Condition:
    """Conditions on a column {0}, perhaps beside another one {1} of the same kind."""

    def made(writer: Writer, sources: Sequence[_Source]) -> str | None:
        values = [v for s in sources for v in s.of(*families)]
        if not values:
            return None
        form = writer.random.choice(forms)
        return form.replace("{0}", writer.random.choice(values)).replace(
            "{1}", writer.random.choice(values)
        )

    return made


_CONDITIONS: Sequence[Condition] = (
    _over(
        _NUMBERS, "{0} = 7", "{0} > 100", "{0} BETWEEN 3 AND 40", "{0} IN (1, 2, 3, 5)",
        "{0} IN (SELECT generate_series(1, 4))", "{0} = ANY ('{1,2,3}')",
        "{0} <> 3", "{0} % 7 = 2", "{0} + 1 > {1}", "{0} = {1}", "({0}, {1}) > (3, 4)",
        "({0}, {1}) = (1, 2)", "{0} IS DISTINCT FROM {1}", "{0} IS NOT DISTINCT FROM 4",
        "coalesce({0}, 0) = 0", "{0}::text = '12'", "{0} IS NULL", "{0} = 3.0", "abs({0}) < 4",
        "{0} NOT IN (1, 2)", "{0} = (SELECT 5)", "nullif({0}, 3) IS NOT NULL", "-{0} < -3",
        "{0} > random() * 10",
    ),
    _over(
        _TEXTS, "{0} = 'word 12'", "{0} LIKE 'word 1%'", "{0} LIKE '%2'", "{0} ILIKE 'V1%'",
        "lower({0}) = 'v1'", "{0} ~ '^v[0-9]'", "{0} IN ('v1', 'v2', 'x')", "{0} = {1}",
        "{0} || 'x' = 'v1x'", "length({0}) > 3", "{0} COLLATE \"C\" < 'v5'", "{0} IS NOT NULL",
        "{0} LIKE ANY (ARRAY['a%', 'w%'])", "substr({0}, 1, 1) = 'w'", "{0} > 'm'",
        "{0} SIMILAR TO '(w|v)%'", "trim({0}) = '000012'", "{0} = E'it\\'s'", "{0} = $x$a$x$",
        "{0} NOT LIKE 'w_rd%'", "position('1' in {0}) > 0",
    ),
    _over(
        ("timestamptz", "timestamp", "date"), "{0} >= '2026-01-20'",
        "{0} BETWEEN '2026-01-05' AND '2026-01-06'", "date_trunc('day', {0}) = '2026-01-09'",
        "{0}::date = '2026-01-09'", "extract(hour FROM {0}) = 3", "{0} > now() - interval '1 year'",
        "now() - {0} < interval '2 years'", "{0} = '2026-01-09'", "{0} IS NULL",
        "to_char({0}, 'YYYY') = '2026'", "{0} < {1} + interval '1 day'", "{0} = 'infinity'",
    ),
    _over(("boolean",), "{0}", "NOT {0}", "{0} IS NOT TRUE", "{0} = true", "{0} IS UNKNOWN"),
    _over(("jsonb",), "{0} ->> 'kind' = '3'", "{0} @> '{\"kind\": 3}'", "{0} ? 'tag'",
          "({0} ->> 'kind')::int > 4", "{0} #>> '{list,0}' = '5'", "jsonb_typeof({0}) = 'object'",
          "{0} @? '$.list[*] ? (@ > 3)'", "{0} -> 'tag' IS NOT NULL"),
    _over(("int[]",), "{0} @> ARRAY[3]", "3 = ANY ({0})", "{0} && ARRAY[1, 2]",
          "array_length({0}, 1) = 2", "{0}[1] = 3", "cardinality({0}) > 1"),
    _over(("text[]",), "{0} @> ARRAY['b']", "'a1' = ANY ({0})", "{0}[1] LIKE 'a%'"),
    _over(("int4range",), "{0} @> 5", "{0} && int4range(3, 9)", "lower({0}) > 4", "isempty({0})"),
    _over(("uuid",), "{0} = '00000000-0000-4000-8000-000000000001'", "{0} > {1}",
          "{0}::text LIKE 'a%'"),
    _over(("inet",), "{0} << '10.0.3.0/24'", "{0} = '10.0.3.4'", "host({0}) = '10.0.1.1'"),
    _over(("interval",), "{0} > '3 hours'", "{0} = {1}"),
    _over(("bytea",), "{0} = '\\x00000005'", "length({0}) = 4"),
)  # fmt: skip
