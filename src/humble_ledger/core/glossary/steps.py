"""The steps of plans in plain words, under our neutral names and the servers' own."""

from __future__ import annotations

from humble_ledger.core.glossary.terms import Term, TermKind
from humble_ledger.core.plans.model import Operation


def _step(operation: Operation, words: str, look_out: str, *also: str) -> Term:
    return Term(operation.value, TermKind.STEP, words, look_out, also)


STEPS: tuple[Term, ...] = (
    _step(
        Operation.FULL_SCAN,
        "Reads a table from its first page to its last and tests each row against the filter. "
        "Pages come in the order of the file, so each costs little. It is the right way when much "
        "of the table is wanted, or when the table is small.",
        "Many rows discarded by the filter: an index could have led to the few that were kept.",
        "Seq Scan",
        "Sample Scan",
        "Parallel Seq Scan",
        "full table scan",
        "Table Access Full",
        "Clustered Index Scan",
        "Table Scan",
        "Columnstore Index Scan",
    ),
    _step(
        Operation.INDEX_SCAN,
        "Walks an index to the entries that fit its search condition, and fetches each row from "
        "the table. The rows come in the order of the index, which can save a sort. Each fetch may "
        "touch another page of the table.",
        "Rows discarded by a filter after they were fetched, and many pages for few rows: the "
        "index leads to more than is wanted.",
        "Index Scan",
        "Index Scan backward",
        "Clustered Index Seek",
        "Table Access By Index Rowid",
    ),
    _step(
        Operation.INDEX_ONLY_SCAN,
        "Answers from the index alone, because the index holds every column that is asked for. "
        "The table is visited only for pages that changed since the last vacuum, to see whether a "
        "row is still valid.",
        "Heap fetches: the more of them, the less is saved; a vacuum brings them down.",
        "Index Only Scan",
        "covering index",
        "Index Seek",
        "Index Range Scan",
        "Index Fast Full Scan",
    ),
    _step(
        Operation.BITMAP_SCAN,
        "Fetches the rows whose places were collected from one or more indexes before, page by "
        "page in the order of the file. Each page is read once, however many of its rows are "
        "wanted. It stands between an index scan and a full scan.",
        "Lossy pages: memory did not suffice to note each row, so whole pages are tested again.",
        "Bitmap Heap Scan",
        "Parallel Bitmap Heap Scan",
    ),
    _step(
        Operation.BITMAP_INDEX,
        "Collects from an index the places of all rows that fit, without fetching them. Several "
        "such collections can be combined with and, or. The step above fetches the rows.",
        "Expected and seen rows far apart: the choice of this route rests on the expectation.",
        "Bitmap Index Scan",
        "BitmapAnd",
        "BitmapOr",
    ),
    _step(
        Operation.ROW_LOOKUP,
        "Fetches rows one by one, by their place in the table's file or by their key, which an "
        "index or the statement itself gives. It is the shortest way to a row there is.",
        "Thousands of them: an index that holds all columns that are asked for would spare them. "
        "Places change when rows are changed: keep none outside of a transaction.",
        "Tid Scan",
        "Tid Range Scan",
        "Key Lookup",
        "RID Lookup",
        "index join",
    ),
    _step(
        Operation.FUNCTION_SCAN,
        "Runs a function that returns rows and takes them as a table. The server knows little of "
        "how many will come, and guesses.",
        "The guess: a nested loop above may run far more often than expected.",
        "Function Scan",
        "Table Function Scan",
    ),
    _step(
        Operation.VALUES,
        "Takes rows that are written in the statement itself.",
        "Thousands of rows in a statement: a temporary table with statistics is planned better.",
        "Values Scan",
    ),
    _step(
        Operation.NESTED_LOOP,
        "For each row of its first input, runs its second input anew. It is unbeatable when few "
        "rows come first and the second input finds its partners by an index. Its cost is the "
        "product of both.",
        "Loops: a first input that brings far more rows than expected makes this explode.",
        "Nested Loop",
        "Nested Loops",
        "lookup join",
        "nested loop join",
    ),
    _step(
        Operation.HASH_JOIN,
        "Puts one input into a hash table in memory, then looks up each row of the other in it. "
        "Each input is read once. It suits large inputs joined by equality.",
        "Batches above one: the table did not fit into memory and was parted over temporary files.",
        "Hash Join",
        "Parallel Hash Join",
        "Hash Match",
    ),
    _step(
        Operation.MERGE_JOIN,
        "Walks two inputs that are in the same order side by side and pairs what is equal. Nothing "
        "need be held in memory. Inputs that are not in order must be sorted first.",
        "Sorts below it: an index in that order, or a hash join, may be cheaper.",
        "Merge Join",
    ),
    _step(
        Operation.HASH,
        "Builds the hash table that the hash join above looks into. It reads its whole input "
        "before the join gives its first row.",
        "Memory and batches, as with the hash join.",
        "Hash",
        "Parallel Hash",
    ),
    _step(
        Operation.SORT,
        "Takes all rows of its input and puts them in order. The first row comes only when all "
        "have been seen. When memory does not suffice, it goes on in temporary files.",
        "An external method or disk: it spilled. A limit above it makes it keep only the best.",
        "Sort",
        "Top N Sort",
        "top-k",
        "external merge",
        "top-N heapsort",
        "quicksort",
    ),
    _step(
        Operation.INCREMENTAL_SORT,
        "Sorts an input that is in order by some leading keys already: only rows with equal "
        "leading keys are sorted among each other. Rows come out early, and little memory is "
        "needed.",
        "One leading value with very many rows: then it is an ordinary sort.",
        "Incremental Sort",
    ),
    _step(
        Operation.AGGREGATE,
        "Counts, sums or otherwise condenses rows, in all or by group. By hashing it holds one "
        "entry for each group in memory; by order it needs its input sorted and holds only one.",
        "More groups than expected: the hash table spills to temporary files.",
        "Aggregate",
        "HashAggregate",
        "Stream Aggregate",
        "Hash Group By",
        "GroupAggregate",
        "MixedAggregate",
        "Partial Aggregate",
        "Finalize Aggregate",
    ),
    _step(
        Operation.GROUP,
        "Joins equal neighbours of a sorted input into one row each, without computing anything.",
        "The sort below it is what costs.",
        "Group",
    ),
    _step(
        Operation.DISTINCT,
        "Drops repeated rows from an input that is in order.",
        "Far more rows in than out: the repetition often comes from a join, and EXISTS in its "
        "place would never make it.",
        "Unique",
        "DISTINCT",
    ),
    _step(
        Operation.WINDOW,
        "Computes a window function: for each row something over its neighbours, such as a rank or "
        "a running sum. Its input is sorted by partition and order first.",
        "The sort below; several windows with the same order share it.",
        "WindowAgg",
    ),
    _step(
        Operation.LIMIT,
        "Passes on so many rows and then stops. Steps below it that work row by row stop with it, "
        "so that their whole cost is never paid.",
        "A large OFFSET: all rows before it are made and thrown away.",
        "Limit",
        "Top",
        "Count Stopkey",
        "OFFSET",
    ),
    _step(
        Operation.APPEND,
        "Passes on the rows of its inputs, one after another: parts of a partitioned table, or "
        "sides of a UNION ALL. A merging append keeps a common order.",
        "Parts that are read in vain: the condition does not tell the server which parts it needs.",
        "Append",
        "Concatenation",
        "Union-All",
        "Merge Append",
        "Parallel Append",
    ),
    _step(
        Operation.MATERIALIZE,
        "Keeps the rows of its input, so that a step above can read them again without making "
        "them anew.",
        "A large input read many times by a nested loop: the loop is the trouble.",
        "Materialize",
        "Table Spool",
        "Index Spool",
    ),
    _step(
        Operation.MEMOIZE,
        "Remembers the answers of its input by the values it was asked with, as long as memory "
        "suffices. In a nested loop it spares repeated look-ups.",
        "Few hits and many evictions: it costs more than it saves.",
        "Memoize",
    ),
    _step(
        Operation.CTE,
        "Reads the rows of a named sub-query (WITH) that was computed apart, once for all its "
        "readers. Conditions of the reader do not reach into it.",
        "A large result of which each reader wants little: NOT MATERIALIZED lets it be planned "
        "with its reader.",
        "CTE Scan",
        "WorkTable Scan",
        "Named Tuplestore Scan",
        "WITH",
    ),
    _step(
        Operation.SUBQUERY,
        "Takes the rows of a sub-query as if it were a table.",
        "By itself it costs next to nothing; look below it.",
        "Subquery Scan",
    ),
    _step(
        Operation.SET_OPERATION,
        "Combines two inputs by EXCEPT or INTERSECT, or repeats a recursive query until nothing "
        "new comes.",
        "In recursion: how many rounds it took, and whether each finds its rows by an index.",
        "SetOp",
        "Recursive Union",
        "HashSetOp",
    ),
    _step(
        Operation.GATHER,
        "Collects rows from parallel workers that work on the steps below it at the same time. "
        "What stands above it is done by one process alone.",
        "Fewer processes launched than planned, and many rows passed on: each costs a hand-over.",
        "Gather",
        "Gather Merge",
        "parallel",
    ),
    _step(
        Operation.LOCK_ROWS,
        "Locks each row it passes on, so that no one else may change it until the transaction "
        "ends (FOR UPDATE, FOR SHARE).",
        "Waiting for rows that others hold; lock few rows, and late.",
        "LockRows",
        "FOR UPDATE",
    ),
    _step(
        Operation.MODIFY,
        "Changes a table: inserts, updates, deletes or merges the rows that come from below. "
        "Indexes, constraints and triggers do their work here, too.",
        "Time of triggers and foreign keys, which is told apart below the plan.",
        "ModifyTable",
        "Insert",
        "Update",
        "Delete",
        "Merge",
        "Foreign Insert",
    ),
    _step(
        Operation.RESULT,
        "Computes a row without a table, or tests a condition that holds for all rows at once. "
        "When that is false, nothing below it runs.",
        "Never executed steps below: that is right, not an error.",
        "Result",
        "ProjectSet",
    ),
    _step(
        Operation.OTHER,
        "A step that this version has no word for: a newer server's, an extension's, or one that "
        "asks another server. Its figures are read like those of any other.",
        "Rows fetched from afar: what is filtered here was sent over the network first.",
        "Foreign Scan",
        "Custom Scan",
    ),
)
