"""Contracts of the program as a whole."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

from humble_ledger import __version__
from humble_ledger.cli.app import ORDER, build
from humble_ledger.cli.reference import reference
from humble_ledger.views.schemas import schemas
from tests.program import Program

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "humble_ledger"


def test_version_and_both_names(humble: Program) -> None:
    assert humble.ok("--version").out == f"humble {__version__}\n"
    alias = str(Path(sys.executable).parent / "humble-ledger")
    assert subprocess.check_output([alias, "--version"], text=True) == f"humble {__version__}\n"


def test_help_lists_every_command_in_the_order_of_the_loop(humble: Program) -> None:
    words = humble.ok("--help").out
    places = [words.index(f"\n  {name} ") for name in ORDER]
    assert places == sorted(places)


def test_help_and_version_load_nothing_heavy() -> None:
    heavy = ("sqlalchemy", "alembic", "sqlglot", "psycopg", "apsw", "msgspec", "scipy")
    code = f"""
import sys
from humble_ledger.cli.entry import run
run(["--help"])
print([m for m in {heavy!r} if m in sys.modules], file=sys.stderr)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stderr.strip() == "[]"


def test_the_schemas_in_docs_are_the_programs() -> None:
    """Make them anew with: python -m humble_ledger.views.schemas docs/schemas"""
    folder = ROOT / "docs" / "schemas"
    assert {f.name: f.read_text() for f in folder.glob("*.json")} == schemas()


def test_the_command_reference_is_current_and_every_command_has_an_example() -> None:
    """Make it anew with: python -m humble_ledger.cli.reference docs/commands.md"""
    text = reference(build())
    assert (ROOT / "docs" / "commands.md").read_text() == text
    assert text.count("\n## ") == text.count("Example:")


@pytest.fixture(scope="module")
def imported() -> dict[str, set[str]]:
    """The packages that the modules of each folder import."""
    found: dict[str, set[str]] = {}
    for path in SOURCE.rglob("*.py"):
        here = found.setdefault(path.relative_to(SOURCE).parts[0], set())
        for node in ast.walk(ast.parse(path.read_text())):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            if isinstance(node, ast.ImportFrom) and node.module and node.level == 0:
                names = [node.module]
            here |= {name.split(".")[0] for name in names}
    return found


@pytest.mark.xdist_group("imports")
@pytest.mark.parametrize(
    ("package", "allowed"),
    [("typer", {"cli"}), ("rich", {"cli", "views", "demo"}),
     ("sqlalchemy", {"ledger", "recording"}), ("psycopg", {"engines", "demo", "ledger"}),
     ("sqlglot", {"core", "engines"}), ("apsw", {"engines"})],
)  # fmt: skip
def test_only_these_folders_know_the_package(
    package: str, allowed: set[str], imported: dict[str, set[str]]
) -> None:
    assert {folder for folder, packages in imported.items() if package in packages} == allowed


def test_every_picture_is_shown_and_the_readme_names_every_command() -> None:
    text = (ROOT / "README.md").read_text()
    pictures = (ROOT / "docs" / "guide" / "pictures.md").read_text()
    for picture in (ROOT / "docs" / "screenshots").glob("*"):
        assert f"screenshots/{picture.name}" in pictures
    for name in ORDER:
        assert f"humble {name}" in text


@pytest.mark.parametrize("command", [(), ("capture",), ("hollow",)], ids=str)
def test_a_command_without_its_part_gives_its_help(humble: Program, command: str) -> None:
    done = humble.run(*command)
    assert (done.out + done.err).startswith(f"Usage: {' '.join(['humble', *command])} [OPTIONS]")
    assert "Commands:" in done.out + done.err or "Begin:" in done.out
