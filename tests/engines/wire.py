"""A small server that speaks PostgreSQL's protocol and answers from a table of what it knows.

It runs in a thread over asyncio. What it does not know it refuses, as a server does that has other
views and other commands; everything that it was asked is kept in ``asked``.
"""

from __future__ import annotations

import asyncio
import re
import struct
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress

Answer = tuple[Sequence[str], Sequence[Sequence[str | None]]]
_SSL = 80877103
_TEXT_OID = 25
_COMMANDS = re.compile(r"^(?:BEGIN|ROLLBACK|COMMIT|SET)\b", re.IGNORECASE)


class Refused(Exception):
    """The server says no."""


class WireServer:
    """One such server: its version, and its answers by pattern, the first that matches."""

    def __init__(self, version: str, answers: Sequence[tuple[str, Answer]],
                 refuses: Sequence[str] = ()) -> None:  # fmt: skip
        self.version = version
        self.answers = [(re.compile(p, re.IGNORECASE | re.DOTALL), a) for p, a in answers]
        self.refuses = [re.compile(p, re.IGNORECASE) for p in refuses]
        self.asked: list[str] = []
        self.port = 0

    @property
    def url(self) -> str:
        return f"postgresql://ines@127.0.0.1:{self.port}/feas?sslmode=disable&gssencmode=disable"

    def answer(self, sql: str) -> Answer:
        bare = " ".join(sql.replace("/* humble-ledger */", "").split())
        self.asked.append(bare)
        if any(pattern.search(bare) for pattern in self.refuses):
            raise Refused(f"unimplemented: {bare[:40]}")
        for pattern, answer in self.answers:
            if pattern.search(bare):
                return answer
        if _COMMANDS.match(bare):
            return (), ()
        raise Refused(f"unknown function or relation in: {bare[:40]}")

    @contextmanager
    def running(self) -> Iterator[WireServer]:
        loop = asyncio.new_event_loop()
        started = threading.Event()

        async def serve() -> None:
            server = await asyncio.start_server(self._talk, "127.0.0.1", 0)
            self.port = server.sockets[0].getsockname()[1]
            started.set()
            async with server:
                await server.serve_forever()

        def run() -> None:
            asyncio.set_event_loop(loop)
            with suppress(asyncio.CancelledError):
                loop.run_until_complete(serve())

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        started.wait(10)
        try:
            yield self
        finally:
            for task in asyncio.all_tasks(loop):
                loop.call_soon_threadsafe(task.cancel)
            thread.join(10)

    async def _talk(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(asyncio.IncompleteReadError, ConnectionError):
            await self._greet(reader, writer)
            await _Talk(self.answer, reader, writer).go_on()
        writer.close()

    async def _greet(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while True:
            (length,) = struct.unpack("!i", await reader.readexactly(4))
            body = await reader.readexactly(length - 4)
            if struct.unpack("!i", body[:4])[0] != _SSL:
                break
            writer.write(b"N")
        told = {"server_version": self.version, "client_encoding": "UTF8", "DateStyle": "ISO, MDY",
                "standard_conforming_strings": "on", "integer_datetimes": "on"}  # fmt: skip
        writer.write(_message(b"R", struct.pack("!i", 0)))
        for name, value in told.items():
            writer.write(_message(b"S", _strings(name, value)))
        writer.write(_message(b"K", struct.pack("!ii", 1, 2)) + _ready(False))


class _Talk:
    def __init__(self, answer: Callable[[str], Answer], reader: asyncio.StreamReader,
                 writer: asyncio.StreamWriter) -> None:  # fmt: skip
        self.answer, self.reader, self.writer = answer, reader, writer
        self.prepared: dict[bytes, str] = {}
        self.portal = ""
        self.failed = self.within = False

    async def go_on(self) -> None:
        while True:
            kind = await self.reader.readexactly(1)
            (length,) = struct.unpack("!i", await self.reader.readexactly(4))
            body = await self.reader.readexactly(length - 4)
            if kind == b"X":
                return
            self.one(kind, body)
            await self.writer.drain()

    def one(self, kind: bytes, body: bytes) -> None:
        if kind == b"S":
            self.failed = False
            self.writer.write(_ready(self.within))
            return
        if self.failed:
            return
        try:
            self.handle(kind, body)
        except Refused as error:
            self.failed = kind != b"Q"
            told = b"SERROR\0C42883\0M" + str(error).encode() + b"\0\0"
            self.writer.write(_message(b"E", told))
            if kind == b"Q":
                self.writer.write(_ready(self.within))

    def handle(self, kind: bytes, body: bytes) -> None:
        if kind == b"Q":
            self.rows(body.rstrip(b"\0").decode(), describe=True)
            self.writer.write(_ready(self.within))
        elif kind == b"P":
            name, sql, _ = body.split(b"\0", 2)
            self.prepared[name] = sql.decode()
            if ";" in sql.decode().rstrip("; \n"):
                raise Refused("cannot insert multiple commands into a prepared statement")
            self.writer.write(_message(b"1", b""))
        elif kind == b"B":
            _, name, _ = body.split(b"\0", 2)
            self.portal = self.prepared.get(name, "")
            self.writer.write(_message(b"2", b""))
        elif kind == b"D":
            columns, _ = self.answer(self.portal)
            self.writer.write(_described(columns))
        elif kind == b"E":
            self.rows(self.portal, describe=False)
        elif kind == b"C":
            self.writer.write(_message(b"3", b""))

    def rows(self, sql: str, *, describe: bool) -> None:
        columns, rows = self.answer(sql)
        word = sql.split(maxsplit=1)[0].upper() if sql.strip() else ""
        self.within = word == "BEGIN" or (self.within and word not in ("ROLLBACK", "COMMIT"))
        if describe:
            self.writer.write(_described(columns))
        for row in rows:
            cells = [
                struct.pack("!i", -1) if cell is None
                else struct.pack("!i", len(cell.encode())) + cell.encode()
                for cell in row
            ]  # fmt: skip
            self.writer.write(_message(b"D", struct.pack("!h", len(cells)) + b"".join(cells)))
        tag = f"SELECT {len(rows)}" if columns else word
        self.writer.write(_message(b"C", tag.encode() + b"\0"))


def _message(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack("!i", len(body) + 4) + body


def _strings(*texts: str) -> bytes:
    return b"".join(text.encode() + b"\0" for text in texts)


def _ready(within: bool) -> bytes:
    return _message(b"Z", b"T" if within else b"I")


def _described(columns: Sequence[str]) -> bytes:
    if not columns:
        return _message(b"n", b"")
    fields = b"".join(
        _strings(name) + struct.pack("!ihihih", 0, 0, _TEXT_OID, -1, -1, 0) for name in columns
    )
    return _message(b"T", struct.pack("!h", len(columns)) + fields)
