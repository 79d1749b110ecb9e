"""Places of ledgers: the path of a file, or the address of a PostgreSQL server."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import parse_qsl, quote, unquote, urlencode, urlsplit, urlunsplit

from humble_ledger.errors import WrongUsage

SCHEMA = "humble_ledger"
_SCHEMES = ("postgresql", "postgres")
_SCHEMA_NAME = re.compile(r"[a-z_][a-z0-9_]{0,50}")
_SECRET = ("password", "sslpassword")


@dataclass(frozen=True, slots=True)
class ServerPlace:
    """A schema on a PostgreSQL server: ``url`` may hold a password, and has no schema in it."""

    url: str
    schema: str = SCHEMA

    def __str__(self) -> str:
        """The address without its password: the only form that is shown or written down."""
        parts = urlsplit(self.url)
        user, at, host = parts.netloc.rpartition("@")
        query = [(k, v) for k, v in parse_qsl(parts.query) if k.lower() not in _SECRET]
        if self.schema != SCHEMA:
            query.append(("schema", self.schema))
        return urlunsplit(
            (parts.scheme, user.partition(":")[0] + at + host, parts.path, _encoded(query), "")
        )

    def __repr__(self) -> str:  # never with a password, wherever it is printed
        return f"ServerPlace({str(self)!r})"

    @property
    def has_password(self) -> bool:
        """Whether the address itself holds a password."""
        parts = urlsplit(self.url)
        return ":" in parts.netloc.rpartition("@")[0] or any(
            name.lower() in _SECRET for name, _ in parse_qsl(parts.query)
        )


Place = Path | ServerPlace


def is_server(text: str) -> bool:
    """Whether a text names a server, not a file."""
    return text.partition("://")[0].lower() in _SCHEMES and "://" in text


def place_of(text: str, folder: Path) -> Place:
    """The place a text names; a relative path counts from ``folder``.

    Raises:
        WrongUsage: an address that cannot be one, or of a server that keeps no ledgers.
    """
    if is_server(text):
        try:
            parts = urlsplit(text)
            query = parse_qsl(parts.query)
        except ValueError as error:
            raise WrongUsage(
                "The ledger's address cannot be read.", "It looks like  " + _EXAMPLE
            ) from error
        schema = next((value for name, value in query if name == "schema"), SCHEMA)
        if not _SCHEMA_NAME.fullmatch(schema) or schema.startswith("pg_"):
            raise WrongUsage(
                f'The schema "{schema}" cannot hold a ledger.',
                "Use small letters, digits and _, not beginning with pg_ or a digit.",
            )
        query = [(name, value) for name, value in query if name != "schema"]
        url = urlunsplit((parts.scheme, parts.netloc, parts.path, _encoded(query), ""))
        return ServerPlace(url, schema)
    if "://" in text:
        scheme = text.partition("://")[0]
        raise WrongUsage(
            f"No ledger can be kept at {scheme}://…", "Name a file, or a server:  " + _EXAMPLE
        )
    return folder / text


def same_place(one: Place, other: Place) -> bool:
    """Whether two places are one, as far as their names tell."""
    if isinstance(one, Path) and isinstance(other, Path):
        return one.resolve() == other.resolve()
    return str(one) == str(other)


_EXAMPLE = "postgresql://user@host/database"


def _encoded(query: list[tuple[str, str]]) -> str:
    # libpq takes no + for a blank.
    return urlencode([(name, unquote(value)) for name, value in query], quote_via=quote, safe="/")
