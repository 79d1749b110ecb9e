"""What a session waits for, in plain words: waits by the names that servers have for them."""

from __future__ import annotations

from dataclasses import dataclass

from humble_ledger.core.glossary.terms import Term, TermKind
from humble_ledger.core.workload.sampling import RUNNING


@dataclass(frozen=True, slots=True)
class WaitMeaning:
    """What a wait means, and what usually helps."""

    words: str
    remedy: str = ""


# By event, where one deserves its own words; names are the server's own.
EVENTS: dict[str, WaitMeaning] = {
    "DataFileRead": WaitMeaning(
        "reading pages of a table or index that were not cached",
        "read less (an index, a narrower query) or cache more (shared_buffers)",
    ),
    "DataFilePrefetch": WaitMeaning("asking for pages ahead of need", "as for reading pages"),
    "AioIoCompletion": WaitMeaning(
        "waiting for pages asked for in the background", "as for reading pages"
    ),
    "DataFileWrite": WaitMeaning(
        "writing changed pages itself, to make room", "more shared_buffers, or slower writers"
    ),
    "DataFileExtend": WaitMeaning("making a table's file longer", "load in larger batches"),
    "DataFileFlush": WaitMeaning("a table's file reaching the disk", "spread checkpoints"),
    "BufFileRead": WaitMeaning(
        "reading a temporary file: a sort or hash spilled", "more work_mem, or fewer rows"
    ),
    "BufFileWrite": WaitMeaning(
        "writing a temporary file: a sort or hash spilled", "more work_mem, or fewer rows"
    ),
    "WALWrite": WaitMeaning("writing the log of changes", "fewer, larger transactions"),
    "WALSync": WaitMeaning(
        "the log of changes reaching the disk", "fewer, larger transactions; quicker disk"
    ),
    "WalSync": WaitMeaning(
        "the log of changes reaching the disk", "fewer, larger transactions; quicker disk"
    ),
    "transactionid": WaitMeaning(
        "another transaction to end: it has changed the same row",
        "shorter transactions; change rows in the same order everywhere",
    ),
    "tuple": WaitMeaning(
        "its turn in the queue for one row", "fewer sessions changing the same row"
    ),
    "relation": WaitMeaning(
        "a lock on a whole table", "no DDL or LOCK TABLE while the application works"
    ),
    "advisory": WaitMeaning("a lock the application made up itself", "look at who holds it"),
    "virtualxid": WaitMeaning("another transaction to end, for DDL", "end long transactions"),
    "SpeculativeToken": WaitMeaning("another INSERT of the same key", "avoid rival inserts"),
    "ClientRead": WaitMeaning(
        "the application to send the next statement",
        "in a transaction: do the application's own work before it begins",
    ),
    "ClientWrite": WaitMeaning(
        "the application to take the rows", "fetch fewer rows; look at network and application"
    ),
    "PgSleep": WaitMeaning("a pg_sleep in the statement"),
    "WALInsert": WaitMeaning("room in the log of changes", "fewer writers, larger batches"),
    "BufferContent": WaitMeaning(
        "a page that others read or change just now", "fewer sessions on the same rows"
    ),
    "LockManager": WaitMeaning(
        "the table of locks: too many locks at once", "fewer partitions or indexes per statement"
    ),
    "ParallelFinish": WaitMeaning("its parallel workers to end"),
    "ExecuteGather": WaitMeaning("its parallel workers to send rows"),
    "HashBuildHashInner": WaitMeaning("other workers building the shared hash table"),
    "MessageQueueSend": WaitMeaning("the leader to take rows from this worker"),
    "MessageQueueReceive": WaitMeaning("a parallel worker to send rows"),
    # What MariaDB and MySQL call the state of a session.
    "row lock": WaitMeaning(
        "another transaction to end: it has changed the same row, or locked a gap beside it",
        "shorter transactions; change rows in the same order everywhere",
    ),
    "Waiting for table metadata lock": WaitMeaning(
        "whoever has used this table in an open transaction, as DDL must, and all behind it",
        "end the open transaction; DDL with a short lock_wait_timeout",
    ),
    "Waiting for table flush": WaitMeaning(
        "statements that use the table still, before it can be opened anew", "end the longest one"
    ),
    "Waiting for table level lock": WaitMeaning(
        "a lock on a whole table", "an engine that locks rows; no LOCK TABLES"
    ),
    "Waiting for global read lock": WaitMeaning(
        "a backup that lets nobody write", "a backup that does without"
    ),
    "Waiting for commit lock": WaitMeaning(
        "a backup that lets nobody commit", "a backup that does without"
    ),
    "User lock": WaitMeaning("a lock the application made up itself", "look at who holds it"),
    "User sleep": WaitMeaning("a SLEEP in the statement"),
    "Opening tables": WaitMeaning(
        "definitions of tables to be read", "a larger table_open_cache; fewer partitions"
    ),
    "closing tables": WaitMeaning("changes of tables to be written out"),
    "Writing to net": WaitMeaning(
        "the application to take the rows", "fetch fewer rows; look at network and application"
    ),
    "Sending to client": WaitMeaning(
        "the application to take the rows", "fetch fewer rows; look at network and application"
    ),
    "Commit": WaitMeaning("the log of changes reaching the disk", "fewer, larger transactions"),
    "waiting for handler commit": WaitMeaning(
        "the log of changes reaching the disk", "fewer, larger transactions"
    ),
    "Waiting for semi-sync ACK from slave": WaitMeaning(
        "a replica to say that it has the change", "look at the network between the two"
    ),
    "Waiting for semi-sync ACK from replica": WaitMeaning(
        "a replica to say that it has the change", "look at the network between the two"
    ),
    "converting HEAP to Aria": WaitMeaning(
        "a temporary table that outgrew its memory", "fewer rows, or a larger tmp_table_size"
    ),
    "converting HEAP to ondisk": WaitMeaning(
        "a temporary table that outgrew its memory", "fewer rows, or a larger tmp_table_size"
    ),
}
# By kind, for all others.
KINDS: dict[str, WaitMeaning] = {
    RUNNING: WaitMeaning("it was using the processor", "less work: fewer rows, better plan"),
    "Lock": WaitMeaning("a lock another session holds", "see who blocks it; shorter transactions"),
    "LWLock": WaitMeaning("a short lock inside the server", "fewer sessions at once"),
    "IO": WaitMeaning("reading or writing files", "read and write less"),
    "Client": WaitMeaning("the application", "look at network and application"),
    "IPC": WaitMeaning("another process of the server"),
    "Timeout": WaitMeaning("a pause that ends by itself"),
    "BufferPin": WaitMeaning("a page that a cursor holds open", "close cursors sooner"),
    "Extension": WaitMeaning("code of an extension", "see the extension's documentation"),
    "Activity": WaitMeaning("work to do: a background process at rest"),
    "Server": WaitMeaning("something inside the server", "see what its manual says of this state"),
    "InjectionPoint": WaitMeaning("a test of the server itself"),
}
_UNKNOWN = WaitMeaning("something this version does not explain")


def meaning_of_wait(kind: str, event: str) -> WaitMeaning:
    """What a wait means, by its event, else by its kind."""
    return EVENTS.get(event) or KINDS.get(kind, _UNKNOWN)


def _term(name: str, meaning: WaitMeaning) -> Term:
    words = f"Waiting for: {meaning.words}."
    remedy = f"Usual remedy: {meaning.remedy}." if meaning.remedy else ""
    return Term(name, TermKind.WAIT, words, remedy)


WAITS: tuple[Term, ...] = tuple(
    _term(name, meaning) for table in (KINDS, EVENTS) for name, meaning in table.items()
)
