"""The figures of plans and of conditions in plain words."""

from __future__ import annotations

from humble_ledger.core.glossary.terms import Term, TermKind


def _figure(name: str, words: str, look_out: str = "", *also: str) -> Term:
    return Term(name, TermKind.FIGURE, words, look_out, also)


def _condition(name: str, words: str, look_out: str, *also: str) -> Term:
    return Term(name, TermKind.CONDITION, words, look_out, also)


FIGURES: tuple[Term, ...] = (
    _figure(
        "rows expected",
        "How many rows the planner thinks a step will give each time it runs. It comes from the "
        "statistics of the table. The whole choice of a plan rests on these numbers.",
        "A factor of ten or more from what was seen: find the lowest step where that begins.",
        "estimate",
        "rows_expected",
        "cardinality",
        "plan rows",
    ),
    _figure(
        "rows seen",
        "How many rows a step really gave, each time it ran on the average. Only a measured plan "
        "has it. Times loops it is the number in all.",
        "With many loops a fraction is rounded by servers before version 18.",
        "rows_seen",
        "actual rows",
    ),
    _figure(
        "loops",
        "How often a step ran. The inner side of a nested loop runs once for each outer row; a "
        "step below a gather runs once in each process.",
        "Times in the server's own output are for one loop: multiply before you compare.",
    ),
    _figure(
        "self time",
        "What a step took without the steps below it. Self times of all steps add up to the "
        "execution time, so the largest is where the time goes.",
        "Below a gather, processes work at the same time: the summed time is larger than the "
        "elapsed.",
        "self ms",
        "self_ms",
    ),
    _figure(
        "total time",
        "What a step took together with all steps below it, over all loops.",
        "A large total with a small self time: the trouble is below.",
        "total ms",
        "actual time",
    ),
    _figure(
        "share",
        "A step's self time as a part of the execution time; of the whole cost in a plan that was "
        "not measured.",
    ),
    _figure(
        "cost",
        "The planner's estimate of the work, in units of its own: 1 is about one page read in "
        "order. Costs compare plans on one server with the same settings; they are no time.",
        "A high cost that runs quickly, or the reverse: the estimate of rows is off, or the pages "
        "were cached.",
        "self cost",
        "total cost",
        "startup cost",
    ),
    _figure(
        "pages",
        "The blocks of a table or index, usually of 8 KiB, that a step touched. Cached ones came "
        "from the server's own memory, read ones from the operating system or the disk.",
        "Many pages for few rows: the rows lie scattered, or far more was read than was wanted.",
        "buffers",
        "pages cached",
        "pages read",
        "shared hit",
    ),
    _figure(
        "temporary pages",
        "Pages written to and read from files because a sort, hash or result did not fit into "
        "memory.",
        "Any at all in a quick query; work_mem is the memory of each such step.",
        "temp",
        "spill",
        "temp read",
        "temp written",
    ),
    _figure(
        "rows discarded",
        "Rows that were read and then thrown away, by a filter, by a join's extra condition or by "
        "a recheck.",
        "Far more discarded than kept: the work was done for nothing.",
        "Rows Removed by Filter",
        "Rows Removed by Join Filter",
        "Rows Removed by Index Recheck",
    ),
    _figure(
        "never executed",
        "The step had no turn, because what stands above it never asked. That is not the same as "
        "a step that ran and found no rows.",
    ),
    _figure(
        "planning time",
        "What the server took to choose the plan. It grows with the number of tables, indexes and "
        "partitions.",
        "More planning than execution, often repeated: prepare the statement.",
    ),
    _figure(
        "execution time",
        "What running the plan took on the server, without sending the rows to the client.",
        "The measuring itself costs: many loops make it seem slower than it is.",
    ),
    _figure(
        "compile time",
        "What the server took to compile expressions of the plan to machine code. It pays for "
        "long queries only.",
        "More compiling than running: the estimated cost was far too high; look at the rows.",
        "JIT",
        "compile_ms",
    ),
    _figure(
        "memory",
        "What a sort, hash or cache held. Each such step may take work_mem (a hash a multiple of "
        "it), in each process.",
        "Disk beside it: it did not suffice.",
        "work_mem",
        "Peak Memory Usage",
        "Sort Space Used",
    ),
    _figure(
        "batches",
        "Into how many parts a hash table was divided, because it did not fit into memory. One is "
        "the wish.",
        "More than planned: more rows came than were expected.",
        "Hash Batches",
        "HashAgg Batches",
    ),
    _figure(
        "processes",
        "Workers planned and launched for a parallel part of a plan. The leader works with them.",
        "Fewer launched than planned: the server had none to spare (max_parallel_workers).",
        "workers",
        "Workers Planned",
        "Workers Launched",
    ),
    _figure(
        "heap fetches",
        "How often an index-only scan had to visit the table after all.",
        "Many: the table was changed much since its last vacuum.",
    ),
    _figure(
        "lossy pages",
        "Pages of a bitmap of which memory allowed to note only that something fits, not which "
        "row: all their rows are tested again.",
        "More work_mem keeps the bitmap exact.",
        "Lossy Heap Blocks",
    ),
    _figure(
        "statistics age",
        "When the table was last analyzed, and how many rows changed since. Estimates are as good "
        "as the statistics they come from.",
        "Many changes since: analyze, and look whether autovacuum keeps up.",
    ),
)
CONDITIONS: tuple[Term, ...] = (
    _condition(
        "search",
        "A condition that leads into an index: only entries that fit are visited. The more of it, "
        "the less is read.",
        "Only columns at the front of the index lead; those behind a gap merely test.",
        "Index Cond",
        "search condition",
        "TID Cond",
    ),
    _condition(
        "filter",
        "A condition that is tested on rows after they were read. What does not fit was read for "
        "nothing.",
        "Rows discarded beside it: could the condition lead into an index instead?",
        "Filter",
        "One-Time Filter",
    ),
    _condition(
        "join",
        "A condition that ties the rows of two inputs. Equality lets the server hash or merge; "
        "anything else leaves a test of each pair.",
        "A join without one pairs every row with every row.",
        "Hash Cond",
        "Merge Cond",
        "Join Filter",
        "join condition",
    ),
    _condition(
        "recheck",
        "The search condition once more, on the rows of a page: needed where the index or the "
        "bitmap is coarse.",
        "Rows discarded by it: see lossy pages.",
        "Recheck Cond",
    ),
)
