"""What an index would be for, as a message: equality on some columns, and then what."""

from __future__ import annotations

from collections.abc import Iterable

from humble_ledger.core.messages import Message, message


def serves(
    use: Message | None = None,
    *,
    equal: Iterable[str] = (),
    first: bool = False,
    where: Iterable[str] = (),
    read: Iterable[str] = (),
) -> Message:
    """An index for a ``use`` behind the columns compared for equality, or before them (``first``).

    ``where`` are the conditions of the rows it holds alone, ``read`` columns that are read from it.
    """
    return message(
        "index-serves",
        equal=tuple(equal),
        use=use,
        first=first,
        where=tuple(where),
        read=tuple(read),
    )
