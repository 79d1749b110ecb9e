"""What a watch has said already, so that it says each thing once."""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import blake2b

import msgspec
from sqlalchemy import delete, insert, select

from humble_ledger.ledger import tables as t
from humble_ledger.ledger.shelf import Shelf

_LONGEST_KEY = 40


class Said(Shelf):
    """The findings that were there at the last look, by the place that was looked at."""

    def of(self, place: str) -> list[str]:
        """What was there."""
        rows = self.rows(select(t.about.c.value).where(t.about.c.key == _key(place)))
        return msgspec.json.decode(rows[0].value, type=list[str]) if rows else []

    def keep(self, place: str, findings: Sequence[str]) -> None:
        """Keep what is there now."""
        with self.store.writing() as c:
            c.execute(delete(t.about).where(t.about.c.key == _key(place)))
            value = msgspec.json.encode(list(findings)).decode()
            c.execute(insert(t.about).values(key=_key(place), value=value))


def _key(place: str) -> str:
    """A name for the place that fits; URLs may be long."""
    return f"said {blake2b(place.encode(), digest_size=12).hexdigest()}"[:_LONGEST_KEY]
