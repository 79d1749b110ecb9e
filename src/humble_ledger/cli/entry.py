"""The program's entry: the one place where errors become messages and exit codes."""

from __future__ import annotations

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

    from humble_ledger.cli.app import build  # noqa: PLC0415
    from humble_ledger.errors import HumbleError, Interrupted  # noqa: PLC0415

    # Typer brings its own Click, so its exceptions are reached through Typer.
    parser_error: type[Exception] = typer.BadParameter.__mro__[2]
    as_json = "--json" in arguments
    try:
        # Outside of its standalone mode the parser returns exit codes rather than leaving.
        code = build()(args=arguments, prog_name="humble", standalone_mode=False)
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
    if code == STOPPED:
        _say(Interrupted(KEPT), as_json)
    return code if isinstance(code, int) else 0


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


def _usage(error: Any, as_json: bool) -> None:
    from humble_ledger.errors import WrongUsage  # noqa: PLC0415

    context = getattr(error, "ctx", None)
    path = context.command_path if context else "humble"
    _say(WrongUsage(error.format_message(), f"See  {path} --help"), as_json)
