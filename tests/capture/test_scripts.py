"""Scripts as they were written for one client or another."""

from __future__ import annotations

import pytest

from humble_ledger.capture.scripts import read_script


@pytest.mark.parametrize(
    ("text", "statements"),
    [
        ("SELECT 1; SELECT ';' ; -- ;\nSELECT 2", [("SELECT 1", 1), ("SELECT ';'", 1),
                                                   ("SELECT 2", 2)]),
        ("SELECT 1 \\g\nSELECT 2\\G\n\nSELECT 3\\gx\n\\d t\nSELECT 4;",
         [("SELECT 1", 1), ("SELECT 2", 2), ("SELECT 3", 4), ("SELECT 4", 6)]),
        ("SELECT `a'b;c` FROM t; SELECT 'it\\g' || `x`", [("SELECT `a'b;c` FROM t", 1),
                                                        ("SELECT 'it\\g' || `x`", 1)]),
        ("DELIMITER //\nCREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END//\n\n"
         "CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET a = 1 //\nDELIMITER ;\nSELECT 4;",
         [("CREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END", 2),
          ("CREATE TRIGGER t BEFORE INSERT ON x FOR EACH ROW SET a = 1", 4), ("SELECT 4", 6)]),
        ("delimiter $$\nSELECT 1$$\nSELECT 2 $$\ndelimiter ;\n", [("SELECT 1", 2),
                                                                 ("SELECT 2", 3)]),
        ("SELECT E'a\\\\g' ; SELECT a \\ b", [("SELECT E'a\\\\g'", 1), ("SELECT a \\ b", 1)]),
    ],
)  # fmt: skip
def test_a_script_is_parted_as_its_client_does(
    text: str, statements: list[tuple[str, int]]
) -> None:
    assert [(each.sql, each.line) for each in read_script(text).statements] == statements


def test_lines_for_the_client_are_counted() -> None:
    found = read_script("\\timing\nDELIMITER //\nSELECT 1//\nDELIMITER ;\nSELECT 2;\n")
    assert sum(found.passed_over.values()) == 3 and len(found.statements) == 2
