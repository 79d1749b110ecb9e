"""The program's entry: the one place where errors become messages and exit codes."""

from __future__ import annotations

import io
import sys
from typing import TYPE_CHECKING, Any

from humble_ledger import __version__

if TYPE_CHECKING:
    from humble_ledger.errors import HumbleError

STOPPED = 130
KEPT = "Stopped. What was finished before is in the ledger."


def main() -> None:
    """Run the program with the arguments of the process; never returns."""
    arguments = sys.argv[1:]
    if arguments == ["--version"]:
        sys.stdout.write(f"humble {__version__}\n")
        sys.exit(0)
    sys.exit(run(arguments))


def run(arguments: list[str]) -> int:
    """Run one command and give its exit code; a user's mistake never shows a traceback."""
    import typer  # noqa: PLC0415 - kept out of the way of --version

    from humble_ledger.cli.app import ORDER, build  # noqa: PLC0415
    from humble_ledger.errors import HumbleError, Interrupted  # noqa: PLC0415

    # Typer brings its own Click, so its exceptions are reached through Typer.
    parser_error: type[Exception] = typer.BadParameter.__mro__[2]
    as_json = "--json" in arguments
    arguments = arguments or ["--help"]
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # a terminal that is not of UTF-8
    try:
        arguments = _without_format(arguments)
        program = build(arguments[0] if arguments[0] in ORDER else None)
        # Outside of its standalone mode the parser returns exit codes rather than leaving.
        code = program(args=arguments, prog_name="humble", standalone_mode=False)
    except (typer.Abort, KeyboardInterrupt):
        _say(Interrupted(KEPT), as_json)
        return STOPPED
    except HumbleError as error:
        _say(error, as_json)
        return error.exit_code
    except parser_error as error:
        _usage(error, as_json)
        return int(getattr(error, "exit_code", 2))
    except BrokenPipeError:
        # The reader of our output went away, as `head` does; that is no error.
        sys.stderr.close()
        return 0
    except UnicodeEncodeError:
        _say(_not_utf8(), as_json)
        return 4
    except Exception as error:
        if not _of_ledger(error):
            raise
        _say(_damaged(error), as_json)
        return 3
    if code == STOPPED:
        _say(Interrupted(KEPT), as_json)
    return code if isinstance(code, int) else 0


def _without_format(arguments: list[str]) -> list[str]:
    """The arguments without --format, which every command understands that has a table."""
    from humble_ledger.cli import output  # noqa: PLC0415
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    ours = arguments[: arguments.index("--")] if "--" in arguments else arguments
    for place, word in enumerate(ours):
        name, sign, value = word.partition("=")
        if name == "--format":
            if not sign and place + 1 >= len(ours):
                raise WrongUsage("--format needs a value.", "Use one of: csv, md")
            output.want_tables(value if sign else ours[place + 1])
            return arguments[:place] + arguments[place + (1 if sign else 2) :]
    return arguments


def _say(error: HumbleError, as_json: bool) -> None:
    """The error for people on stderr, or as the one JSON document on stdout.

    A check that failed has given its document before.
    """
    from humble_ledger.views.escaping import escaped, escaped_json, readable  # noqa: PLC0415

    if as_json and error.code != "check-failed":
        import msgspec  # noqa: PLC0415

        from humble_ledger.views.documents.errors import ErrorDocument  # noqa: PLC0415

        document = ErrorDocument(error.code, readable(error.message), readable(error.hint))
        sys.stdout.write(escaped_json(msgspec.json.encode(document).decode()) + "\n")
        return
    sys.stderr.write(f"humble: {escaped(error.message)}\n")
    if error.hint:
        sys.stderr.write(f"        {escaped(error.hint)}\n")


def _not_utf8() -> HumbleError:
    from humble_ledger.errors import UnreadableInput  # noqa: PLC0415

    return UnreadableInput(
        "What was given holds bytes that are no UTF-8, so it cannot be sent to a server.",
        "Put the statement into a file in UTF-8 and give  @file",
    )


def _of_ledger(error: Exception) -> bool:
    """Whether reading the ledger came upon what it cannot hold: an entry that is damaged, or
    written by a version that had other words.
    """
    place = error.__traceback__
    while place is not None:
        if place.tb_frame.f_globals.get("__name__", "").startswith("humble_ledger.ledger."):
            return True
        place = place.tb_next
    return False


def _damaged(error: Exception) -> HumbleError:
    from humble_ledger.errors import LedgerUnreachable  # noqa: PLC0415

    said = " ".join(str(error).split())[:200]
    return LedgerUnreachable(
        f"An entry of the ledger cannot be read ({type(error).__name__}: {said}).",
        "It is damaged, or of another version of this program: keep the file as it is, and go on "
        "with a backup of it.",
    )


def _usage(error: Any, as_json: bool) -> None:
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    context = getattr(error, "ctx", None)
    path = context.command_path if context else "humble"
    message = error.format_message()
    if message.startswith("Usage:"):  # a group of commands was called without one of them
        sys.stderr.write(f"{message}\n")
        return
    _say(WrongUsage(message, f"See  {path} --help"), as_json)
