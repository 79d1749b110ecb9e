"""The ways a trial can go, and what each means for others on the server."""

from __future__ import annotations

from enum import StrEnum


class Way(StrEnum):
    """How the two sides of a trial are had."""

    INDEXES = "uncommitted-index"
    IGNORED = "ignored-index"
    REMOVALS = "hidden-index"
    OTHERS = "uncommitted-change"
    REWRITES = "two-statements"
    STAGES = "stages-in-transaction"
    ONLINE = "online-index"
    GATHERED = "gathered-for-all"
    COPIES = "two-copies"
    NOT_TRIED = "prediction-only"


EXPLAINED = {
    Way.INDEXES: "an index that only one of two connections saw, rolled back after",
    Way.IGNORED: "an index built online and dropped after; one of two connections was told to "
    "ignore it, and every other session could use it",
    Way.REWRITES: "one connection sent the old statement, the other the new one",
    Way.REMOVALS: "one connection could not see the index; nobody waited, and it is seen again",
    Way.OTHERS: "a change that only one of two connections saw, rolled back after",
    Way.STAGES: "without, with and without the change, one after the other in one transaction "
    "that was rolled back",
    Way.ONLINE: "measured before the index was built online, with it, and again after it was "
    "dropped; writers did not wait",
    Way.GATHERED: "measured before the statistics were gathered, with them, and again after "
    "they were removed; every session had them meanwhile",
    Way.COPIES: "on two copies of the database, of which one got the change; both are gone",
    Way.NOT_TRIED: "not tried: costs are predicted only",
}
