"""Whether two runs gave the same result: the same rows, and the same order where it counts."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from hashlib import blake2b

from humble_ledger.core.messages import Message, message

_MASK = (1 << 128) - 1


@dataclass(frozen=True, slots=True)
class ResultFingerprint:
    """A result in three numbers: rows, a sum over rows in any order, a chain over their order."""

    rows: int
    content: str
    sequence: str


@dataclass(frozen=True, slots=True)
class ResultComparison:
    """Whether two results are the same, and why or why not."""

    same: bool
    reason: Message


def fingerprint_rows(rows: Iterable[tuple[bytes | None, ...]]) -> ResultFingerprint:
    """Fingerprint rows in the server's text form; duplicates count."""
    count, total = 0, 0
    chain = blake2b(digest_size=16)
    for row in rows:
        digest = blake2b(digest_size=16)
        for value in row:
            # Length first, so that neighbouring values cannot run into each other.
            digest.update(b"N" if value is None else b"%d:" % len(value) + value)
        raw = digest.digest()
        chain.update(raw)
        total = (total + int.from_bytes(raw)) & _MASK
        count += 1
    return ResultFingerprint(count, f"{total:032x}", chain.hexdigest())


def compare_results(
    before: ResultFingerprint, after: ResultFingerprint, ordered: bool
) -> ResultComparison:
    """Compare two results; ``ordered`` tells whether the statement asks for an order."""
    if before.rows != after.rows:
        return ResultComparison(
            False, message("other-number-of-rows", before=before.rows, after=after.rows)
        )
    if before.content != after.content:
        return ResultComparison(False, message("values-differ", rows=before.rows))
    if ordered and before.sequence != after.sequence:
        return ResultComparison(True, message("only-ties-changed-places"))
    return ResultComparison(True, message("same-rows", rows=before.rows, ordered=ordered))
