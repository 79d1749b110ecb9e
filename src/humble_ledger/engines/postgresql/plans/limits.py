"""How large a saved plan may be: limits that are said, so that no file takes all memory or time.

Plans come from strangers. A few megabytes can be made to unfold into gigabytes (aliases,
entities, millions of empty lists) or to take hours (nesting, one line of a hundred megabytes).
"""

from __future__ import annotations

from humble_ledger.errors import UnreadableInput

MIB = 1024 * 1024
MOST_BYTES = 64 * MIB
MOST_BYTES_OF_YAML = 16 * MIB  # its parser is ten times as slow
MOST_VALUES = 2_000_000
MOST_LETTERS = 4 * MIB  # of one condition or name
LONGEST_LINE_TAKEN_APART = 5_000  # of a label or a figure's line; conditions may be longer


def too_large(what: str, most: str) -> UnreadableInput:
    """The refusal: what there is too much of, and how much may be."""
    return UnreadableInput(
        f"This plan has {what}; at most {most} is read.",
        "Is it one plan, as the server wrote it? Explain the part of the statement that matters.",
    )


def require_bytes(text: str, most: int = MOST_BYTES) -> None:
    """Refuse a text that is too long.

    Raises:
        UnreadableInput: it is.
    """
    if len(text) > most:
        raise too_large(f"{len(text) / MIB:,.0f} MiB", f"{most // MIB} MiB")


def require_values(count: int) -> None:
    """Refuse a document of too many parts.

    Raises:
        UnreadableInput: it is one.
    """
    if count > MOST_VALUES:
        raise too_large(f"{count:,} values", f"{MOST_VALUES:,}")
