"""A ledger with a whole chain, of statements that strangers made as awkward as they could."""

from __future__ import annotations

import sqlite3
from contextlib import closing

from tests.program import Program

SECRET, LONG = "Xanadu-4711", "w" * 10_000
HOSTILE = f"""
SELECT id, note FROM visit WHERE keeper = 42 AND note <> '{SECRET}' ORDER BY day;
SELECT v.id FROM visit v JOIN buoy b ON b.id = v.buoy WHERE b.name = '</script><script>window.bad=1</script>';
SELECT id FROM visit WHERE note = '"><img src=x onerror="window.bad=1"> & ''quoted'' ]]>';
SELECT id FROM visit WHERE note = 'turned \u202e round\u2066 and \x1b[31m red';
SELECT id AS "</details></body> {{{{ 7 * 7 }}}}" FROM visit WHERE note LIKE '%{LONG}%';
"""  # noqa: E501


def tell(program: Program) -> None:
    """Make a ledger over a file, from the capture of hostile statements to a kept trial."""
    folder = program.folder
    with closing(sqlite3.connect(folder / "app.db")) as connection:
        connection.executescript(
            """
            CREATE TABLE buoy (id INTEGER PRIMARY KEY, name TEXT);
            CREATE TABLE visit (id INTEGER PRIMARY KEY, buoy INTEGER REFERENCES buoy,
                keeper INTEGER, day TEXT, note TEXT);
            """
        )
        connection.executemany("INSERT INTO buoy VALUES (?, ?)", ((n, f"b{n}") for n in range(300)))
        connection.executemany(
            "INSERT INTO visit VALUES (?, ?, ?, ?, ?)",
            ((n, n % 300, n * 31 % 700, f"2026-0{n % 9 + 1}", f"n{n}") for n in range(30_000)),
        )
        connection.commit()
    (folder / "hostile.sql").write_text(HOSTILE)
    program.ok("init", "app.db", "--role", "scratch")
    program.ok("capture", "script", "hostile.sql", "--measure")
    query = program.query_with("keeper = $1")
    program.ok("diagnose", "--measure")
    program.ok("propose")
    trial = program.json("trial", query, "--index", "visit (keeper, day)")
    program.ok("settle", trial["id"], "keep", "--reason", "keepers wait </script>")
