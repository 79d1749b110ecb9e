"""Values of each type at which statements go wrong, and those beside a given one."""

from __future__ import annotations

import re
from collections.abc import Mapping

_LENGTH = re.compile(r"\((\d+)(?:,(\d+))?\)")
_SCHEMA = re.compile(r"^(?:\w+|\"[^\"]+\")\.")
_TEXTS = ("a", "", "b", "A", "ab", "1", "01", "a%", "é", " a")
_MOMENTS = (
    "2026-03-01 00:00:00", "2026-03-01 12:30:00.5", "2026-02-28 23:59:59.999999",
    "2026-03-29 02:30:00", "2024-02-29 00:00:00", "2026-03-08 07:00:00", "infinity",
)  # fmt: skip
# By the beginning of a type's name; the longer ones first.
_VALUES: Mapping[str, tuple[str, ...]] = {
    "smallint": ("1", "2", "0", "3", "-1", "32767"),
    "integer": ("1", "2", "0", "3", "-1", "2147483647"),
    "bigint": ("1", "2", "0", "3", "-1", "9223372036854775807"),
    "numeric": ("1", "2", "0", "1.5", "-1", "1.0", "0.1"),
    "real": ("1", "2", "0", "0.1", "-1", "NaN", "1e20"),
    "double precision": ("1", "2", "0", "0.1", "-1", "NaN", "1e20"),
    "money": ("1", "2", "0", "-1"),
    "boolean": ("t", "f"),
    "text": _TEXTS,
    "character varying": _TEXTS,
    "character": _TEXTS,
    "name": _TEXTS[:6],
    '"char"': ("a", "b", ""),
    "citext": _TEXTS,
    "date": ("2026-03-01", "2026-02-28", "2024-02-29", "2026-03-29", "2026-12-31", "infinity"),
    "timestamp": _MOMENTS,
    "time": ("00:00:00", "12:30:00", "23:59:59.999999"),
    "interval": ("1 day", "24 hours", "1 month", "0", "-1 day"),
    "uuid": tuple(f"00000000-0000-4000-8000-00000000000{n}" for n in range(1, 4)),
    "inet": ("10.0.0.1", "10.0.0.1/8", "10.0.0.2", "::1"),
    "cidr": ("10.0.0.0/8", "10.1.0.0/16", "::/0"),
    "macaddr": ("08:00:2b:01:02:03", "08:00:2b:01:02:04"),
    "jsonb": ("{}", '{"a": 1}', "[1, 2]", "null", '{"a": null}', '"x"'),
    "json": ("{}", '{"a": 1}', "[1, 2]", "null", '{"a": null}'),
    "bytea": ("\\x", "\\x01", "\\x0102"),
    "bit varying": ("1", "0", "10"),
    "oid": ("1", "2", "3"),
    "tsvector": ("a", "a b", ""),
    "tsquery": ("a", "b"),
    "point": ("(0,0)", "(1,2)"),
    "int4range": ("empty", "[1,3)", "[2,4)", "(,1)"),
    "int8range": ("empty", "[1,3)", "[2,4)", "(,1)"),
    "numrange": ("empty", "[1,3)", "[2,4]", "(,1)"),
    "daterange": ("empty", "[2026-03-01,2026-03-05)", "[2026-03-04,)"),
    "tsrange": ("empty", "[2026-03-01,2026-03-05)", "[2026-03-04,)"),
    "tstzrange": ("empty", "[2026-03-01,2026-03-05)", "[2026-03-04,)"),
    "xml": ("<a/>", "<a>1</a>"),
    "ltree": ("a", "a.b", "b", "a.b.c"),
    "hstore": ("", "a=>1", "a=>NULL"),
}
_NUMBERS = ("smallint", "integer", "bigint", "numeric", "real", "double", "money")


def _unplaced(type_name: str) -> str:
    """A type's name without the schema that an extension was put in."""
    return _SCHEMA.sub("", type_name)


def typical_values(type_name: str) -> list[str]:
    """Values of a type, in the server's text form; none for a type that is not known."""
    type_name = _unplaced(type_name)
    if type_name.endswith("[]"):
        inner = typical_values(type_name[:-2])
        one, other = ([*inner, "NULL", "NULL"])[:2]
        quoted = ['"' + v.replace("\\", "\\\\").replace('"', '\\"') + '"' for v in (one, other)]
        return ["{}", f"{{{quoted[0]}}}", f"{{{quoted[0]},{quoted[1]}}}", f"{{{quoted[0]},NULL}}"]
    length = _LENGTH.search(type_name)
    if type_name.startswith("bit(") and length is not None:
        size = int(length[1])
        return ["0" * size, "1" * size, "1".ljust(size, "0")]
    names = sorted((n for n in _VALUES if type_name.startswith(n)), key=len, reverse=True)
    if not names:
        return []
    values = _VALUES[names[0]]
    if length is not None and names[0].startswith("character"):
        values = tuple(v for v in values if len(v) <= int(length[1]))
    return list(values)


def beside(type_name: str) -> tuple[str, ...]:
    """Expressions for a value given as {0} and for those just beside it."""
    type_name = _unplaced(type_name)
    if type_name.startswith(_NUMBERS):
        return ("{0}", "{0} + 1", "{0} - 1")
    if type_name.startswith("timestamp"):
        return (
            "{0}", "{0} - interval '1 microsecond'", "{0} + interval '1 day'",
            "{0} + interval '1 hour'", "{0} - interval '1 day'",
        )  # fmt: skip
    if type_name == "date":
        return ("{0}", "{0} + 1", "{0} - 1")
    if type_name.startswith(("text", "character", "citext")):
        return (
            "{0}", "upper({0})", "lower({0})", "{0} || 'a'", "btrim({0})",
            "replace(replace({0}, '%%', ''), '_', 'x')",
        )  # fmt: skip
    return ("{0}",)
