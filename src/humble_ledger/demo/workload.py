"""The scenario's statements as files, and sending them as an application would."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from importlib import resources
from importlib.resources.abc import Traversable

import psycopg
from psycopg.rows import TupleRow

HEADER = re.compile(r"-- ([a-z-]+): (.*)")
PLACEHOLDER = re.compile(r"\$(\d+)")

# Called with the connection just opened for one application.
OnConnect = Callable[[psycopg.Connection[TupleRow]], None]


@dataclass(frozen=True, slots=True)
class AppStatement:
    """One statement of the workload: its text with $1 … and how the application sends it."""

    name: str
    about: str
    trouble: str
    application: str
    prepared: bool
    times: int
    count_up: int
    sql: str
    value_sets: tuple[tuple[object, ...], ...] = field(default=())

    @property
    def healthy(self) -> bool:
        """Whether nothing is wrong with it."""
        return self.trouble.startswith("none")

    def sendings(self) -> Iterator[tuple[object, ...]]:
        """The values of each sending, in order."""
        if self.count_up:
            yield from ((n,) for n in range(1, self.count_up + 1))
            return
        for _ in range(self.times):
            yield from self.value_sets


def load_workload(instead: Mapping[str, Traversable] | None = None) -> list[AppStatement]:
    """Every statement of the workload, in the order of the file names.

    ``instead`` are files by their names that take the place of ours.
    """
    folder = resources.files("humble_ledger.demo") / "sql" / "workload"
    files = sorted((f for f in folder.iterdir() if f.name.endswith(".sql")), key=lambda f: f.name)
    told = [(instead or {}).get(file.name, file) for file in files]
    return [_read(file.name.removesuffix(".sql"), file.read_text()) for file in told]


def _read(name: str, text: str) -> AppStatement:
    headers: dict[str, str] = {}
    value_sets: list[tuple[object, ...]] = []
    sql: list[str] = []
    for line in text.splitlines():
        header = HEADER.fullmatch(line)
        if header is None:
            sql.append(line)
        elif header[1] == "values":
            value_sets.append(tuple(json.loads(header[2])))
        else:
            headers[header[1]] = header[2]
    return AppStatement(
        name=name,
        about=headers["about"],
        trouble=headers["trouble"],
        application=headers["application"],
        prepared=headers["send"] == "prepared",
        times=int(headers.get("times", "1")),
        count_up=int(headers.get("count-up", "0")),
        sql="\n".join(sql).strip(),
        value_sets=tuple(value_sets),
    )


def send_workload(
    url: str, statements: list[AppStatement], on_connect: OnConnect = lambda _: None
) -> int:
    """Send every statement as its application would; returns how many were sent.

    Some applications let the server bind the values (they then stand in the log as
    parameters), some write them into the text.
    """
    sent = 0
    for application in dict.fromkeys(s.application for s in statements):
        with psycopg.connect(url, autocommit=True, application_name=application) as connection:
            connection.prepare_threshold = None
            on_connect(connection)
            for statement in (s for s in statements if s.application == application):
                sent += _send(connection, statement)
    return sent


def _send(connection: psycopg.Connection[TupleRow], statement: AppStatement) -> int:
    text = PLACEHOLDER.sub(r"%(p\1)s", statement.sql.replace("%", "%%"))
    kind = psycopg.Cursor if statement.prepared else psycopg.ClientCursor
    sendings = list(statement.sendings())
    with kind(connection) as cursor:
        for values in sendings:
            cursor.execute(
                text.encode(), {f"p{n}": value for n, value in enumerate(values, start=1)}
            )
    return len(sendings)
