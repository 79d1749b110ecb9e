"""What `diagnose` finds of planted troubles, and what it says of statements that are well.

The cases stand on the warehouse and the tenants' application, whose schemas the rules were not
written on. Each has the findings an expert would accept, as "symptom:cause" or either alone; a case
of what only looks like a trouble has the findings that would be a false alarm.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass

import psycopg

from benchmarks.grounds import ground
from benchmarks.grounds.troubles import CASES, SETUP, Case


@dataclass(frozen=True)
class Judged:
    """A case with what was said of it."""

    case: Case
    said: tuple[str, ...]

    @property
    def found(self) -> bool:
        """Whether one of the accepted findings is among what was said."""
        return any(_is(wanted, said) for wanted in self.case.wanted for said in self.said)

    @property
    def false(self) -> list[str]:
        """What was said though it is not so."""
        return [s for s in self.said if any(_is(wrong, s) for wrong in self.case.wrong)]


def _is(pattern: str, said: str) -> bool:
    symptom, _, cause = said.partition(":")
    wanted, colon, why = pattern.partition(":")
    return wanted in ("", symptom) and (not colon or why == cause)


def main(names: Sequence[str] = ()) -> None:
    """Print recall and precision per ground, and each case that was not told right."""
    for name in names or CASES:
        with ground(name) as (url, _):
            report(name, judge(name, url))


def judge(name: str, url: str) -> list[Judged]:
    """Diagnose every case of a ground."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(SETUP[name].encode())
    judged = []
    with tempfile.TemporaryDirectory() as folder:
        humble(folder, "init", url, "--role", "scratch")
        for case in CASES[name]:
            with psycopg.connect(url, autocommit=True) as connection:
                database = psycopg.sql.Identifier(str(connection.info.dbname)).as_string(None)
                for setting in case.settings:
                    connection.execute(f"ALTER DATABASE {database} SET {setting}".encode())
                try:
                    options = ["--measure"] if case.measured else []
                    options += ["--allow-writes"] if case.writes else []
                    said = humble(folder, "diagnose", case.sql, *options, "--json")
                finally:
                    connection.execute(f"ALTER DATABASE {database} RESET ALL".encode())
            judged.append(Judged(case, told(said)))
    return judged


def told(said: str) -> tuple[str, ...]:
    """The findings in the answer of `diagnose`, each with its cause."""
    document = json.loads(said) if said.startswith("{") else {"error": said}
    if "symptoms" not in document:
        print(f"    {document}")
    return tuple(f"{s['name']}:{s['cause']['name']}" for s in document.get("symptoms", []))


def report(name: str, judged: Sequence[Judged]) -> None:
    """The figures, and what is wrong."""
    planted = [j for j in judged if j.case.wanted]
    alike = [j for j in judged if not j.case.wanted]
    found = sum(j.found for j in planted)
    alarms = sum(bool(j.false) for j in judged)
    right = sum(len(set(j.said)) - len(set(j.false)) for j in judged)
    precision = right / max(1, right + sum(len(set(j.false)) for j in judged))
    print(f"  {name}: {found} of {len(planted)} planted troubles found "
          f"({found / max(1, len(planted)):.0%}); false alarms in {alarms} of {len(judged)} cases "
          f"({len(alike)} only look like trouble); precision {precision:.2f}")  # fmt: skip
    for each in judged:
        if (each.case.wanted and not each.found) or each.false:
            print(f"    {each.case.name}: said {', '.join(each.said) or 'nothing'}; "
                  f"wanted {' or '.join(each.case.wanted) or 'none of ' + ', '.join(each.case.wrong)}")  # fmt: skip  # noqa: E501


def humble(folder: str, *arguments: str) -> str:
    """What the program says."""
    done = subprocess.run(
        [sys.executable, "-m", "humble_ledger", *arguments],
        cwd=folder, capture_output=True, text=True, check=False,
    )  # fmt: skip
    return done.stdout or done.stderr


if __name__ == "__main__":
    main(sys.argv[1:])
