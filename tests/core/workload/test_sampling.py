from __future__ import annotations

from datetime import UTC, datetime, timedelta

from humble_ledger.core.glossary.waits import meaning_of_wait
from humble_ledger.core.workload.sampling import (
    RUNNING,
    ActivityLook,
    BlockerBranch,
    Samples,
    SessionLook,
    blocker_tree,
)

START = datetime(2026, 3, 1, 10, tzinfo=UTC)


def session(
    pid: int, sql: str = "select 1", *, blocked_by: tuple[int, ...] = (), state: str = "active",
    wait: tuple[str, str] = ("", ""), leader: int | None = None,
) -> SessionLook:  # fmt: skip
    return SessionLook(
        pid, "me", "skerry", "app", state, sql, *wait, START, START, START, blocked_by, leader
    )


def samples(*sessions: SessionLook, looks: int = 5) -> Samples:
    found = Samples(200.0)
    for n in range(looks):
        found.look(ActivityLook(START + timedelta(seconds=n * 0.2 + 1), sessions))
    return found


def test_what_is_seen_often_lasted_long() -> None:
    found = samples(session(1), session(2, leader=1), session(3, state="idle in transaction"))
    ((key, seen),) = found.statements.items()
    assert key[0] == 1, "a parallel worker is no statement of its own"
    assert seen.samples == 5
    assert round(found.sample_ms) == 200
    assert seen.lasted_ms == 1800.0
    assert found.waits() == {(RUNNING, "nothing (it was working)"): 5}


def test_long_transactions_and_what_they_do_in_them() -> None:
    found = samples(session(1), session(2, state="idle in transaction"), looks=60)
    idle = {t.pid: round(t.idle_s, 1) for t in found.long_transactions()}
    assert idle == {1: 0.0, 2: 12.8}


def shape(branch: BlockerBranch) -> object:
    return (branch.pid, [shape(below) for below in branch.below])


def test_who_blocks_whom_is_a_tree() -> None:
    lock = ("Lock", "transactionid")
    found = samples(
        session(1, "update a", state="idle in transaction"),
        session(2, blocked_by=(1,), wait=lock),
        session(3, blocked_by=(2,), wait=lock),
        session(4, blocked_by=(1,), wait=lock),
    )
    (root,) = blocker_tree(found)
    assert shape(root) == (1, [(2, [(3, [])]), (4, [])])
    assert (root.sql, root.state, root.waited_s) == ("update a", "idle in transaction", None)
    assert root.below[0].wait_event == "transactionid"


def test_a_ring_of_waiters_ends() -> None:
    found = samples(session(1, blocked_by=(2,)), session(2, blocked_by=(1,)))
    (root,) = blocker_tree(found)
    assert shape(root) == (1, [(2, [(1, [])])])


def test_texts_can_be_changed_everywhere() -> None:
    found = samples(session(1, "a", blocked_by=(2,)), session(2, "b")).with_texts(str.upper)
    assert {s.sql for s in found.statements.values()} == {"A", "B"}
    assert shape(blocker_tree(found)[0]) == (2, [(1, [])])
    assert found.blocked[1].sql == "A"


def test_every_wait_has_words() -> None:
    assert "same row" in meaning_of_wait("Lock", "transactionid").words
    assert meaning_of_wait("Lock", "frozenid").words == meaning_of_wait("Lock", "x").words
    assert "open transaction" in meaning_of_wait("Lock", "Waiting for table metadata lock").words
    assert "not explain" in meaning_of_wait("New", "thing").words
