"""The ledger as one object: its shelves, each the only code that knows its tables.

Each method of a shelf that writes is one step of the loop and one transaction; it writes
its line of history in the same transaction.
"""

from __future__ import annotations

import secrets

from sqlalchemy import func, insert, select

from humble_ledger.core.entries import EventEntry
from humble_ledger.core.results.history import History
from humble_ledger.errors import WrongUsage
from humble_ledger.ledger import tables as t
from humble_ledger.ledger.captures import Captures
from humble_ledger.ledger.drifting import Drifting
from humble_ledger.ledger.growths import Growths
from humble_ledger.ledger.ids import Kind, parse_id
from humble_ledger.ledger.notes import Notes
from humble_ledger.ledger.plans import Plans
from humble_ledger.ledger.queries import Queries
from humble_ledger.ledger.remedies import Remedies
from humble_ledger.ledger.replays import Replays
from humble_ledger.ledger.said import Said
from humble_ledger.ledger.senders import Senders
from humble_ledger.ledger.shelf import Shelf, add_event
from humble_ledger.ledger.store import Store, open_store
from humble_ledger.ledger.store.place import Place
from humble_ledger.ledger.symptoms import Symptoms
from humble_ledger.ledger.tags import Tags
from humble_ledger.ledger.targets import Targets
from humble_ledger.ledger.trials import Trials


class Ledger:
    """The ledger at a place; ``create`` makes one where there is none.

    With ``mask`` nothing that is kept has a literal. ``uid`` tells this ledger from all others,
    on a target that several use.
    """

    def __init__(self, place: Place, *, create: bool = False, mask: bool = False) -> None:
        self._store = open_store(place, create=create)
        self.place = place
        self.targets = Targets(self._store)
        self.captures = Captures(self._store)
        self.queries = Queries(self._store)
        self.notes = Notes(self._store)
        self.senders = Senders(self._store)
        self.tags = Tags(self._store)
        self.drifting = Drifting(self._store)
        self.said = Said(self._store)
        self.growths = Growths(self._store)
        self.plans = Plans(self._store)
        self.symptoms = Symptoms(self._store)
        self.remedies = Remedies(self._store, mask)
        self.uid = self._own_uid()
        self.trials = Trials(self._store)
        self.replays = Replays(self._store, mask)

    def close(self) -> None:
        """Close it."""
        self._store.close()

    def __enter__(self) -> Ledger:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def history(self, last: int | None = None) -> History:
        """The ledger in order of time; ``last`` keeps the newest so many."""
        wanted = select(t.events).order_by(t.events.c.id.desc())
        if last is not None:
            wanted = wanted.limit(last)
        with self._store.reading() as c:
            rows = c.execute(wanted).all()
            count = int(c.execute(select(func.count()).select_from(t.events)).scalar() or 0)
        events = [
            EventEntry(row.at, row.subject, row.words, row.person, row.machine)
            for row in reversed(rows)
        ]
        return History(tuple(events), count)

    @property
    def store(self) -> Store:
        """The store, for what goes through all shelves at once."""
        return self._store

    def require(self, id_: str) -> Kind:
        """The kind of an id that exists.

        Raises:
            WrongUsage: it is no id, or the ledger has no such entry.
        """
        parsed = parse_id(id_)
        if parsed is None:
            raise WrongUsage(
                f'"{id_}" is not an id.',
                "Ids look like q3, p7, s4, r2, t1, y1; see  humble history",
            )
        Shelf(self._store).row(parsed[0], id_)
        return parsed[0]

    def _own_uid(self) -> str:
        wanted = select(t.about.c.value).where(t.about.c.key == "uid")
        with self._store.reading() as c:
            found = c.execute(wanted).scalar()
        if found:
            return str(found)
        with self._store.writing() as c:
            found = c.execute(wanted).scalar()  # another process may have been first
            if not found:
                found = secrets.token_hex(4)
                c.execute(insert(t.about).values(key="uid", value=found))
                add_event(c, "ledger", "ledger begun")
        return str(found)
