"""Sentences: every message of the program has one that takes just what the message brings."""

from __future__ import annotations

import ast
import inspect
from collections.abc import Iterator
from pathlib import Path

import pytest

import humble_ledger
from humble_ledger.core.messages import AS_TOLD, Message, message, phrase
from humble_ledger.views.numbers import STYLES, Numbers
from humble_ledger.views.wording import ROOMS, SENTENCES, in_words, sentences_of

SOURCES = Path(humble_ledger.__file__).parent


def messages_made() -> Iterator[tuple[str, str, set[str], bool]]:
    """(place, key, names of arguments, whether more may come) of each message in the sources."""
    for path in sorted(SOURCES.rglob("*.py")):
        if path.name == "messages.py":
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call) or not isinstance(node.func, ast.Name):
                continue
            if node.func.id != "message":
                continue
            names = {each.arg for each in node.keywords if each.arg is not None}
            more = any(each.arg is None for each in node.keywords)
            first = node.args[0]
            keys = [first.body, first.orelse] if isinstance(first, ast.IfExp) else [first]
            for key in keys:
                assert isinstance(key, ast.Constant), f"{path}:{node.lineno} makes up its key"
                yield f"{path.name}:{node.lineno}", str(key.value), names, more


MADE = list(messages_made())


@pytest.mark.parametrize(("place", "key", "names", "more"), MADE, ids=[m[0] for m in MADE])
def test_a_message_has_a_sentence_for_just_its_arguments(
    place: str, key: str, names: set[str], more: bool
) -> None:
    assert key in SENTENCES, f"{place}: nothing words {key}"
    taken = list(inspect.signature(SENTENCES[key]).parameters.values())[1:]
    assert names <= {each.name for each in taken}, place
    needed = {each.name for each in taken if each.default is inspect.Parameter.empty}
    assert more or needed <= names, place


def test_no_sentence_is_left_of_which_nobody_makes_a_message() -> None:
    assert len(MADE) > 100
    assert set(SENTENCES) == {key for _, key, _, _ in MADE}


def test_no_key_has_two_sentences() -> None:
    assert len(list(sentences_of(ROOMS))) == len(SENTENCES)


@pytest.mark.parametrize(
    ("told", "words"),
    [
        (message("scan-keeps-few", measured=False, whole=True, read=1e6, table="reading",
                 kept=3.0, times=1.0), "would read all 1,000,000 rows of reading to keep 3"),
        (message("scan-keeps-few", measured=True, whole=False, read=12_345.0, table="reading",
                 kept=0.0, times=4.0, rows_when_none=9e5),
         "reads 12,345 rows of reading, 4 times to keep 0, and all 900,000 when none is there"),
        (message("index-scan-discards-most", measured=True, rows=2e4, indexes=["a", "b"],
                 kept=10.0), "fetches 20,000 rows by a and b to keep 10"),
        (message("columns-tested-late", columns=["x", "y"], indexes=["a"]),
         "x, y are tested only after fetching the row: a does not hold them"),
        (message("row-misestimate", seen=900.0, expected=3.0, factor=300.0, more=True,
                 drives="Nested Loop", drives_step=2),
         "900 rows came, 3 expected (300 times more); it drives Nested Loop (step 2)"),
        (message("correlated-columns", shares=[0.5, 0.001], conditions=["a = 1", "b = 2"],
                 product=0.0005, table="t", seen=0.25, together=True, columns=["a", "b"]),
         "50 % by a = 1 × 0.1 % by b = 2 = 0.05 % of t, but 25 % came: these columns are "
         "correlated (a, b)"),
        (message("or-over-columns", columns=["a", "b"], without=["b"]),
         "a row may match by a or b: each needs an index of its own; none begins with b; or ask "
         "for each apart and join the results (UNION)"),
        (message("n-plus-one-queries", sender=None, route=None, senders=3, requests=False,
                 largest=40, calls=1_200, bursts=30),
         "3 sessions sent it up to 40 times in a row, 1,200 times in 30 bursts, each time with "
         "another value"),
        (message("n-plus-one-queries", sender="a.py:1 (f)", route="GET /pier", senders=1,
                 requests=True, largest=40, calls=40, bursts=1),
         "a.py:1 (f) sent it up to 40 times in one request (GET /pier), 40 times in one request, "
         "each time with another value"),
        (message("index-for-nothing", index="i", size_bytes=3 * 1024 * 1024, written=1_200,
                 what=message("not-used-once",
                              since=message("since-counters-were-reset", minutes=360.0))),
         "i was not used once in the 6 hours since the counters were reset; it takes 3.0 MiB, and "
         "up to 1,200 rows were written to it"),
        (message("memory-of-hash", limit_bytes=None, setting="work_mem", needed_bytes=5e6),
         "the hash did not fit into work_mem; about 4.77 MiB would hold it (estimated)"),
        (message("slow-for-some-values", place="buoy_id", values=["7", "61"], more=2,
                 median_ms=60.0, others_ms=5.0, runs=8),
         "with buoy_id = 7, 61 and 2 more it took 60.0 ms, with others 5.0 ms (medians; 8 runs of "
         "the former were kept)"),
        (message("reference-is-searched", deleted=0, refers_to="crew", pages=9, columns=["c"],
                 by_query=True), "captured queries join or search by c"),
        (phrase("{verb} {rows:whole} rows {part:share}, {took:ms}", verb="reads", rows=1234.5,
                part=0.125, took=2.0), "reads 1,234 rows 12.5 %, 2.00 ms"),
        (phrase("{had}{rows:whole}", had=phrase("it had {n:whole}; ", n=7), rows=None),
         "it had 7; None"),
        (Message(AS_TOLD, {"text": "reads {all} of 12"}), "reads {all} of 12"),
        ("what is words already {stays}", "what is words already {stays}"),
    ],
)  # fmt: skip
def test_sentences(told: Message | str, words: str) -> None:
    assert in_words(told) == words


@pytest.mark.parametrize("style", STYLES)
def test_numbers_in_sentences_have_the_readers_style(style: str) -> None:
    told = message("route-not-taken", index="i", cost=1234.5, now=9e6, even=0.0012,
                   expected=0.5, came=None)  # fmt: skip
    thousands, point = STYLES[style]
    words = in_words(told, Numbers(style))
    assert f"costs 1{thousands}234 against 9{thousands}000{thousands}000" in words
    assert f"below 0{point}12 %" in words


@pytest.mark.parametrize(
    "told",
    [
        message("of-a-newer-version", rows=7),
        message("no-filter", pages=7),  # other arguments than it has here
        message("scan-is-right", table="t", more="x"),
        message("route-costs-more", share="x", index="i", cost=1.0, now=1.0, even=0.5),
        message("statistics-missing", table="t", pages=10**400),
        message("references-without-index", references=7, shown=True),
        phrase("{rows:whole} rows", rows=10**400),
    ],
)
def test_what_cannot_be_worded_is_told_as_it_came(told: Message) -> None:
    words = in_words(told)
    assert words.startswith(f"{told.key}: ")
    assert all(f"{name} {value}" in words for name, value in told.arguments.items())


def test_a_phrase_reaches_nothing_but_its_arguments() -> None:
    told = phrase("{a:__class__} {a:size} {b.x} {c}", a=2048, c="{a}")
    assert in_words(told) == "2048 2.00 KiB {b.x} {a}"
