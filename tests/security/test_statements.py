"""No text of a stranger's changes anything on a server, by any command, unless allowed by name."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from pathlib import Path

import pytest

from tests.program import Finished, Program
from tests.security.conftest import shared_out
from tests.security.corpus import CALLING, DISGUISED, HARMLESS, SEVERAL, WRITING
from tests.security.guarded import Guarded

ALL = {**SEVERAL, **DISGUISED, **CALLING}
AS_CHANGES = [*DISGUISED, *list(CALLING)[::5], "plain", "escape string with a quote"]
EXIT_CODES = (0, 1, 2, 4, 5, 6)  # done, a promise that does not hold, or one of the refusals


def fitted(text: str, guarded: Guarded) -> str:
    return text.replace("{victim}", str(guarded.victim.info.backend_pid)).replace(
        "{marks}", str(guarded.marks)
    )


def log_of(texts: Iterable[str], path: Path) -> str:
    """A log of the server's in which these were run, each with a duration worth a look."""
    with path.open("w") as file:
        for number, text in enumerate(texts):
            entry = {
                "timestamp": f"2026-03-01 10:00:{number % 60:02}.000 UTC",
                "user": "app",
                "dbname": "guarded",
                "pid": 4000 + number,
                "error_severity": "LOG",
                "message": f"duration: {100 + number}.5 ms  statement: {text}",
            }
            file.write(json.dumps(entry) + "\n")
    return str(path)


def unharmed(guarded: Guarded, before: Mapping[str, object], what: object) -> None:
    after = guarded.state()
    assert after == before, {k: (before[k], after[k]) for k in before if before[k] != after[k]} | {
        "by": what
    }


def refused_or_done(done: Finished) -> None:
    assert done.code in EXIT_CODES, (done.code, done.out, done.err)


def test_a_captured_log_full_of_attacks_harms_nothing(aimed: Program, guarded: Guarded) -> None:
    before = guarded.state()
    texts = [fitted(text, guarded) for text in ALL.values()]
    aimed.ok("capture", "log", log_of(texts, aimed.folder / "server.json"))
    for command in (
        ("diagnose",),
        ("diagnose", "--measure"),
        ("propose",),
        ("propose", "--budget", "3"),
        ("queries",),
        ("history",),
        ("audit",),
    ):
        refused_or_done(aimed.run(*command))
        unharmed(guarded, before, command)
    sockets = guarded.listening_sockets()
    for command in (
        ("replay", "--seconds", "2", "--clients", "2"),
        ("replay", "--seconds", "2", "--clients", "2", "--allow-writes"),
        ("trial", "--workload", "--index", "precious (note)", "--pairs", "2"),
    ):
        refused_or_done(aimed.run(*command))
        unharmed(guarded, before, command)
    assert guarded.listening_sockets() == sockets
    # The rest is planned on the other version.
    for query in aimed.json("queries")["queries"][guarded.major % 2 :: 2]:
        refused_or_done(aimed.run("plan", query["id"], "--values", "common"))
    unharmed(guarded, before, "plan of each")


def test_a_script_full_of_attacks_harms_nothing(aimed: Program, guarded: Guarded) -> None:
    before = guarded.state()
    for number, text in enumerate(ALL.values()):
        (aimed.folder / f"{number}.sql").write_text(fitted(text, guarded))
    script = aimed.folder / "all.sql"
    script.write_text(";\n".join(fitted(text, guarded) for text in ALL.values()))
    for options in ((), ("--measure",)):
        refused_or_done(aimed.run("capture", "script", str(script), *options))
        unharmed(guarded, before, options)
    for number, (name, text) in enumerate(SEVERAL.items()):
        refused_or_done(aimed.run("capture", "script", f"{number}.sql", "--measure"))
        unharmed(guarded, before, (name, text))


@pytest.mark.parametrize(("guarded", "name"), shared_out(ALL), indirect=["guarded"])
def test_no_text_given_harms_anything(aimed: Program, guarded: Guarded, name: str) -> None:
    text = fitted(ALL[name], guarded)
    before = guarded.state()
    # With all that a user can switch on, except for naming what may be called. The others take
    # turns; the tests above send all texts through plan, propose and a trial.
    longer = (
        ("plan", text),
        ("routes", text, "--measure"),
        ("propose", text),
        ("trial", text, "--index", "precious (keeper_id)", "--pairs", "2", "--allow-writes"),
    )
    turn = list(ALL).index(name) // 2
    for command in (
        ("plan", text, "--measure", "--allow-writes"),
        *([longer[turn // 2 % len(longer)]] if turn % 2 == 0 else []),
    ):
        refused_or_done(aimed.run(*command))
        unharmed(guarded, before, (name, *command))


@pytest.mark.parametrize(
    ("guarded", "name"),
    shared_out(AS_CHANGES),
    indirect=["guarded"],
)
def test_no_change_that_is_tried_acts_outside(aimed: Program, guarded: Guarded, name: str) -> None:
    text = fitted({**ALL}[name], guarded)
    harmless = "SELECT * FROM precious WHERE keeper_id = 3"
    (aimed.folder / "other.sql").write_text(text)
    before = guarded.state()
    # Each text becomes a statement, one way or the other, and a part of one.
    place = AS_CHANGES.index(name) // 2
    whole = (
        ("trial", harmless, "--rewrite", "other.sql", "--pairs", "2"),
        ("trial", harmless, "--apply", text, "--revert", "SELECT 1", "--pairs", "2"),
    )
    parts = (
        ("trial", harmless, "--index", f"precious (keeper_id) WHERE ({text})", "--pairs", "2"),
        ("trial", harmless, "--index", f"precious (({text}))", "--pairs", "2"),
        ("trial", harmless, "--set", f"work_mem={text}", "--pairs", "2"),
    )
    for command in (whole[place % len(whole)], parts[place % len(parts)]):
        refused_or_done(aimed.run(*command))
        unharmed(guarded, before, (name, *command))
    tables = (
        ("table", text),
        ("table", "precious.note", "--value", text, "--count"),
        ("table", f"precious.{text}", "--value", "= 1"),
    )
    refused_or_done(aimed.run(*tables[place % len(tables)]))
    unharmed(guarded, before, (name, "table"))


@pytest.mark.parametrize(("guarded", "name"), shared_out(WRITING), indirect=["guarded"])
def test_writing_that_is_allowed_does_not_allow_what_it_sets_going(
    aimed: Program, guarded: Guarded, name: str
) -> None:
    before = guarded.state()
    for command in (
        ("plan", WRITING[name], "--measure", "--allow-writes"),
        ("trial", WRITING[name], "--index", "precious (note)", "--allow-writes", "--pairs", "2"),
    ):
        said = aimed.run(*command)
        assert said.code == 5 and "--allow-side-effects" in said.err, (said.out, said.err)
        unharmed(guarded, before, command)


@pytest.mark.parametrize(("guarded", "name"), shared_out(CALLING), indirect=["guarded"])
def test_what_acts_is_named_before_it_is_run(aimed: Program, guarded: Guarded, name: str) -> None:
    text = fitted(CALLING[name], guarded)
    said = aimed.fails(5, "plan", text, "--measure")
    assert "--allow-side-effects" in said, said


def test_what_was_allowed_by_name_is_run_and_nothing_else(aimed: Program, guarded: Guarded) -> None:
    counted = guarded.state()["sequences"]
    text = "SELECT app.opaque(1), pg_try_advisory_lock(44)"
    said = aimed.fails(5, "plan", text, "--measure", "--allow-side-effects", "app.opaque")
    assert "pg_try_advisory_lock" in said and "app.opaque" not in said
    allowed = ("--allow-side-effects", "opaque", "--allow-side-effects", "PG_TRY_ADVISORY_LOCK")
    assert aimed.json("plan", text, "--measure", *allowed)["measured"] is True
    assert guarded.state()["sequences"] == counted


def test_a_trial_says_how_often_it_will_call_what_was_allowed(
    aimed: Program, guarded: Guarded
) -> None:
    text = "SELECT app.opaque(id) FROM precious WHERE keeper_id = 3"
    done = aimed.run(
        "trial", text, "--index", "precious (keeper_id)", "--pairs", "6",
        "--allow-side-effects", "app.opaque",
    )  # fmt: skip
    assert done.code == 0, done.err
    assert "app.opaque: called by every run of a statement, up to 20 times each" in done.err


@pytest.mark.parametrize("text", HARMLESS)
def test_nobody_is_asked_about_what_only_reads(aimed: Program, text: str) -> None:
    assert aimed.json("plan", text, "--measure")["measured"] is True


def test_a_plan_tells_what_the_planner_may_call(aimed: Program, guarded: Guarded) -> None:
    said = aimed.ok("plan", "SELECT * FROM precious WHERE id = app.opaque(3)").out
    assert "the planner may call app.opaque" in said
    said = aimed.fails(5, "plan", "SELECT * FROM precious WHERE id = app.lying(3)")
    assert "app.lying" in said and "app.trace" in said


SHADOWS = """
DROP SCHEMA IF EXISTS shadows CASCADE;
CREATE SCHEMA shadows;
CREATE FUNCTION shadows."right"(name, integer) RETURNS text LANGUAGE sql AS
    $$ SELECT app.trace('right')::text $$;
CREATE FUNCTION shadows."lower"(name) RETURNS text LANGUAGE sql AS
    $$ SELECT app.trace('lower')::text $$;
CREATE FUNCTION shadows.concat(text, text) RETURNS text LANGUAGE sql AS
    $$ SELECT app.trace('concat')::text $$;
CREATE FUNCTION shadows.set_config(text, text, boolean) RETURNS text LANGUAGE sql AS
    $$ SELECT app.trace('set_config')::text $$;
CREATE FUNCTION shadows.to_regclass(text) RETURNS regclass LANGUAGE sql AS
    $$ SELECT app.trace('to_regclass')::oid::regclass $$;
CREATE FUNCTION shadows.pg_relation_size(oid) RETURNS bigint LANGUAGE sql AS
    $$ SELECT app.trace('size')::bigint $$;
CREATE FUNCTION shadows.pg_get_indexdef(oid) RETURNS text LANGUAGE sql AS
    $$ SELECT app.trace('indexdef')::text $$;
CREATE FUNCTION shadows.joined(name, text) RETURNS text LANGUAGE sql AS
    $$ SELECT app.trace('||')::text $$;
CREATE OPERATOR shadows.|| (LEFTARG = name, RIGHTARG = text, FUNCTION = shadows.joined);
CREATE FUNCTION shadows.same(oid, regclass) RETURNS boolean LANGUAGE sql AS
    $$ SELECT app.trace('=') = 1 $$;
CREATE OPERATOR shadows.= (LEFTARG = oid, RIGHTARG = regclass, FUNCTION = shadows.same);
CREATE FUNCTION shadows.divided(integer, integer) RETURNS integer LANGUAGE sql AS
    $$ SELECT app.trace('/') $$;
CREATE OPERATOR shadows./ (LEFTARG = integer, RIGHTARG = integer, FUNCTION = shadows.divided);
CREATE VIEW shadows.pg_class AS SELECT c.*, app.trace('pg_class') AS acted
    FROM pg_catalog.pg_class c;
"""


@pytest.mark.parametrize("path", ["public, shadows", "shadows, pg_catalog, public"])
def test_what_shadows_the_servers_own_names_is_never_ours(
    aimed: Program, guarded: Guarded, path: str
) -> None:
    """Who may create in a schema of the path could have our questions run theirs with our rights."""
    guarded.do(SHADOWS)
    guarded.do(f"ALTER DATABASE guarded SET search_path = {path}")
    text = "SELECT * FROM precious WHERE keeper_id = 3"
    try:
        before = guarded.state()
        # Allowed, so that the statements are run: none of them calls these.
        allowed = ("--allow-side-effects", "same,joined,divided,trace,dblink_exec")
        for command in (
            ("preflight",),
            ("plan", text, "--measure", *allowed),
            ("plan", text.replace("3", "$1"), "--values", "common"),
            ("diagnose", text),
            ("diagnose", "--schema"),
            ("routes", text),
            ("propose", text),
            ("table", "precious"),
            ("table", "precious.note", "--value", "x", "--count"),
            ("table", "nowhere"),
            ("trial", text, "--index", "precious (keeper_id)", "--pairs", "6", *allowed),
            ("trial", text, "--apply", "CREATE INDEX x ON precious (id)", "--revert", "DROP INDEX x",
             "--pairs", "6", *allowed),
            ("settle", "t1", "keep", "--reason", "it is wanted"),
            ("audit",),
            ("tidy",),
            ("capture", "live", "--for", "0.3s"),
        ):  # fmt: skip
            done = aimed.run(*command)
            refused_or_done(done)
            unharmed(guarded, before, command)
            if command[0] == "trial":
                assert done.code == 0, done.err
    finally:
        guarded.do("ALTER DATABASE guarded RESET search_path")
        guarded.do("DROP SCHEMA shadows CASCADE")
