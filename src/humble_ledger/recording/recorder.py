"""Turns statements that were sent into lines of the statement log."""

from __future__ import annotations

import json
import logging
import math
import os
import threading
import time
from collections.abc import Collection, Mapping
from json.encoder import encode_basestring_ascii as quoted
from os import PathLike
from pathlib import Path
from typing import Any

from humble_ledger.recording.log_file import LogFile
from humble_ledger.recording.masking import without_values
from humble_ledger.recording.places import Places
from humble_ledger.recording.requests import current

MOST_A_SECOND = 2_000
MOST_BYTES = 64 * 1024 * 1024
FILES_KEPT = 3
_LONGEST_VALUE = 4_096
_LONGEST_STATEMENT = 1024 * 1024
_MOST_KNOWN, _LONGEST_KNOWN = 4_096, 4_096
_MOST_FAILURES = 3
_all: list[Recorder] = []
_log = logging.getLogger("humble_ledger.recording")


class Recorder:
    """Writes the statements of one application to a file.

    ``application`` is its name in the log. Above ``most_a_second`` statements a second the others
    are counted and left out. The file is followed by ``files_kept`` former ones of at most
    ``most_bytes`` each. With ``mask`` neither parameters nor values in statements are written.
    ``packages`` are installed ones that are the application's own, ``root`` is the folder that
    paths of code are told from (default: where it was started).
    """

    def __init__(
        self,
        path: str | PathLike[str],
        *,
        application: str = "",
        mask: bool = False,
        most_a_second: int = MOST_A_SECOND,
        most_bytes: int = MOST_BYTES,
        files_kept: int = FILES_KEPT,
        packages: Collection[str] = (),
        root: str | PathLike[str] = "",
    ) -> None:
        self._file = LogFile(Path(path), most_bytes, files_kept, self._failed)
        self._application = f',"application":{quoted(application)}' if application else ""
        self._mask = mask
        self._most_a_second = most_a_second
        self._places = Places(os.fspath(root) or str(Path.cwd()), packages)
        self._second, self._written, self._left_out = 0, 0, 0
        self._counting = threading.Lock()
        self._known: dict[tuple[object, str, str, tuple[str, str]], str] = {}
        self._failures = 0
        _all.append(self)
        if hasattr(os, "register_at_fork"):
            os.register_at_fork(after_in_child=self._after_fork)

    def place(self, skipped: int = 0) -> tuple[str, str]:
        """The line of the application that is running, and its function; never raises.

        ``skipped`` frames are known to be between the caller and the application.
        """
        try:
            return self._places.caller(skipped + 1)
        except Exception:
            return "", ""

    def saw(
        self,
        statement: object,
        parameters: object,
        begun_s: float,
        ms: float,
        style: str = "",
        rows: int | None = None,
        client: str = "",
        place: tuple[str, str] | None = None,
        error: str = "",
        double_quotes: bool = False,
    ) -> None:
        """Write a statement that was sent; never raises.

        ``begun_s`` is in seconds since 1970, ``style`` how parameters are written (PEP 249),
        ``client`` what `client_keys` made, ``place`` where it was sent from, by default here.
        """
        if self._failures >= _MOST_FAILURES:
            return
        try:
            if not self._is_written():
                return
            if place is None:
                place = self._places.caller()
            shown = _parameters(parameters) if parameters and not self._mask else ""
            if shown and style == "qmark" and shown[0] == "{":
                style = "named"
            same = (
                self._known.get((statement, style, client, place))
                if type(statement) is str
                else None
            )
            if same is None:
                same = self._same(statement, style, client, place, double_quotes)
            line = f'{{"at":{begun_s:.6f},"ms":{ms:.3f}{same}'
            if shown:
                line += f',"parameters":{shown}'
            if rows is not None and rows >= 0:
                line += f',"rows":{rows}'
            answered = current.get()
            if answered is not None:
                line += f',"request":"{answered.id}","route":{quoted(answered.name)}'
            if error:
                line += f',"error":{quoted("failed" if self._mask else error[:200])}'
            self._file.append(line + "}\n")
        except OSError as failure:
            self._failed(failure)
        except Exception:  # of this statement alone, as an odd value: it is counted
            with self._counting:
                self._left_out += 1

    def _same(
        self,
        statement: object,
        style: str,
        client: str,
        place: tuple[str, str],
        double_quotes: bool,
    ) -> str:
        """What all runs of one statement at one place have: put together once, if it is short."""
        sql = _text(statement)
        if len(sql) > _LONGEST_STATEMENT:
            sql = f"/* {len(sql)} characters */"
        if self._mask:
            sql = without_values(sql, double_quotes=double_quotes)
        code, function = place
        from_ = f',"code":{quoted(code)},"function":{quoted(function)}' if code else ""
        written = f',"placeholders":"{style}"' if style else ""
        same = f',"statement":{quoted(sql)}{client}{self._application}{written}{from_}'
        if type(statement) is str and len(statement) <= _LONGEST_KNOWN:
            if len(self._known) >= _MOST_KNOWN:
                self._known.clear()
            self._known[statement, style, client, place] = same
        return same

    def _is_written(self) -> bool:
        """Whether this one is; tells of those that were left out in the second before."""
        second = int(time.monotonic())
        if second != self._second:
            with self._counting:
                self._second, self._written = second, 0
                left_out, self._left_out = self._left_out, 0
            if left_out:
                told = {"at": time.time(), "ms": 0, "statement": "", "left_out": left_out}
                self._file.append(json.dumps(told) + "\n")
        # Threads may count past one another here, and a few more be written.
        self._written += 1
        if self._written <= self._most_a_second:
            return True
        with self._counting:
            self._left_out += 1
        return False

    def flush(self) -> None:
        """Write what is still in memory; never raises."""
        try:
            self._file.flush()
        except Exception as error:
            self._failed(error)

    def _after_fork(self) -> None:
        """A lock that another thread held then would never be given back in the child."""
        self._counting = threading.Lock()

    def _failed(self, error: Exception) -> None:
        """An application runs on when its record cannot be written; it is told once, and ends."""
        self._failures += 1
        if self._failures == _MOST_FAILURES:
            _log.warning("Statements are no longer recorded: %s", error)


def flush() -> None:
    """Write what any recorder of this process still has in memory; never raises."""
    for each in _all:
        each.flush()


def client_keys(*, database: str = "", user: str = "", session: object = "") -> str:
    """Who sends, as keys of a line: made once for a connection."""
    pairs = (("database", database), ("user", user), ("session", str(session)))
    return "".join(f',"{key}":{quoted(str(value))}' for key, value in pairs if value)


def told(error: BaseException) -> str:
    """What an error says, in a line of the log; some cannot even say that."""
    try:
        return f"{type(error).__name__}: {error}"
    except Exception:
        return type(error).__name__


def _text(statement: object) -> str:
    if isinstance(statement, str):
        return statement
    if isinstance(statement, bytes):
        return statement.decode("utf-8", "replace")
    as_string = getattr(statement, "as_string", None)
    return str(as_string(None)) if callable(as_string) else str(statement)


def _parameters(parameters: Any) -> str:
    """The values as JSON; "" when one of them is longer than is kept: half a value is none."""
    kind = type(parameters)
    if kind is tuple or kind is list:
        shown = [_value(each) for each in parameters]
        written = f"[{','.join(shown)}]" if "" not in shown else ""
    elif isinstance(parameters, Mapping):
        pairs = [(quoted(str(name)), _value(each)) for name, each in parameters.items()]
        written = "{" + ",".join(f"{name}:{each}" for name, each in pairs) + "}"
        written = written if all(each for _, each in pairs) else ""
    else:
        return _parameters(list(parameters))
    return written if len(written) <= 16 * _LONGEST_VALUE else ""


def _value(value: object) -> str:
    """One value as JSON; "" when it is too long. The usual kinds without the encoder's detours."""
    kind = type(value)
    if kind is str:
        return quoted(value) if len(value) <= _LONGEST_VALUE else ""  # type: ignore[arg-type]
    if kind is int:
        return int.__repr__(value)
    if value is None:
        return "null"
    if kind is float and not math.isfinite(value):  # type: ignore[arg-type]
        return quoted(str(value))  # JSON has no such number
    shown = _encode(value)
    return shown if len(shown) <= 2 * _LONGEST_VALUE + 2 else ""


def _as_json(value: object) -> object:
    """What JSON has no form for, as a server reads it."""
    if isinstance(value, bytes | bytearray | memoryview):
        return "\\x" + bytes(value).hex()
    if isinstance(value, set | frozenset | tuple):
        return list(value)
    isoformat = getattr(value, "isoformat", None)
    return isoformat() if callable(isoformat) else str(value)


_encode = json.JSONEncoder(separators=(",", ":"), default=_as_json).encode
