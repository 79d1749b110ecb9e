"""Trials of statements that were given as texts, and never captured, are settled like the rest."""

from __future__ import annotations

from tests.conftest import Server, only_newest
from tests.program import Program


@only_newest
def test_a_trial_of_a_text_can_be_settled_and_applied(humble: Program, server: Server) -> None:
    humble.ok("init", server.url, "--role", "scratch")
    server.do("DROP TABLE IF EXISTS texts")
    server.do("CREATE TABLE texts AS SELECT n AS a, n % 7 AS b FROM generate_series(1, 60000) AS n")
    server.do("ANALYZE texts")
    try:
        text = "SELECT b FROM texts WHERE a = 4321"
        humble.ok("trial", text, "--index", "texts (a)", "--pairs", "6")
        done = humble.json("settle", "t1", "keep", "--reason", "it is wanted", "--apply")
        assert done["kind"] == "settlement"
        rows = server.fetch("SELECT indexname FROM pg_indexes WHERE tablename = 'texts'")
        assert rows == [("texts_a_idx",)]
        assert "texts_a_idx" in humble.ok("plan", "q1").out
        humble.ok("audit")
    finally:
        server.do("DROP TABLE texts")
