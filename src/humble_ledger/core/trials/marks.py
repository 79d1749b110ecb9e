"""How what a trial makes is told from everything else: by the end of its name."""

from __future__ import annotations

from humble_ledger.core.schema.quoting import MAX_NAME_BYTES


def marked_ending(mark: str) -> str:
    """The end of the names of indexes made by the trial of this mark, "t5@abcd"."""
    return "__" + mark.replace("@", "_")


def marked_name(name: str, mark: str) -> str:
    """A name that nobody else uses, as long as the server keeps it whole."""
    ending = marked_ending(mark)
    begun = name.encode()[: MAX_NAME_BYTES - len(ending)]
    return begun.decode(errors="ignore") + ending
