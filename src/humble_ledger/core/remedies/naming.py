"""Names of indexes by a pattern: "{table}_{columns}_idx"."""

from __future__ import annotations

from collections.abc import Collection
from string import Formatter

from humble_ledger.core.remedies.design import IndexDesign
from humble_ledger.core.schema.facts import IndexKey
from humble_ledger.core.schema.quoting import MAX_NAME_BYTES, fitting_name
from humble_ledger.core.statements.tokens import TokenKind, meaningful

DEFAULT_PATTERN = "{table}_{columns}_idx"
PARTS = ("table", "columns", "method")
_MOST_WORDS = 4  # of an expression


def pattern_fault(pattern: str) -> str:
    """What is wrong with a pattern for names; "" when nothing is."""
    try:
        named = [field for _, field, _, _ in Formatter().parse(pattern) if field is not None]
    except ValueError as error:
        return str(error)
    unknown = [field for field in named if field not in PARTS]
    if unknown:
        return f'it has no part "{unknown[0]}"'
    return "" if "columns" in named else "without {columns} all indexes would have one name"


def index_name(
    design: IndexDesign, pattern: str = DEFAULT_PATTERN, taken: Collection[str] = ()
) -> str:
    """A name by the pattern that fits the server's limit and is not taken.

    A long name loses the end of its columns; a taken one gets a number.
    """
    columns = "_".join(_words(design))
    for number in range(1, len(taken) + 2):
        suffix = "" if number == 1 else f"_{number}"
        name = _fitted(design, pattern, columns, suffix)
        if name not in taken:
            return name
    return name


def _fitted(design: IndexDesign, pattern: str, columns: str, suffix: str) -> str:
    def made(words: str) -> str:
        named = pattern.format(table=design.table.name, columns=words, method=design.method)
        return named + suffix

    too_long = len(made(columns).encode()) - MAX_NAME_BYTES
    if too_long > 0:
        kept = columns.encode()[: max(1, len(columns.encode()) - too_long)]
        columns = kept.decode(errors="ignore").rstrip("_")
    return fitting_name(made(columns))


def _words(design: IndexDesign) -> list[str]:
    words = [_word(key) for key in design.keys] + list(design.included)
    if design.predicate:
        # Parsing SQL takes a heavy package, and every command reads the pattern.
        from humble_ledger.core.statements.conditions import columns_of  # noqa: PLC0415

        bounds = dict.fromkeys(ref.column for ref in columns_of(design.predicate))
        words += ["where", *bounds]
    return words


def _word(key: IndexKey) -> str:
    if key.column:
        return key.column
    named = [t.text for t in meaningful(key.expression) if t.kind is TokenKind.WORD]
    return "_".join(dict.fromkeys(named[:_MOST_WORDS])).lower() or "expr"
