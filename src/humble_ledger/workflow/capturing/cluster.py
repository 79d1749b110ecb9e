"""Logs read on a cluster: each by one worker, by the same code as here.

What a worker sends back is what it gathered of one log, not the log's lines. A worker that is lost
has its logs read again by others; each log's part is kept once, when it has come.
"""

from __future__ import annotations

import asyncio
import logging
import socket
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import CancelledError
from contextlib import suppress
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import msgspec

from humble_ledger import __version__
from humble_ledger.capture.assembly import Assembler, PlanSeen, Tally
from humble_ledger.capture.files import LogReader, Position
from humble_ledger.capture.places import LogPlace
from humble_ledger.capture.reading import Desk, read_onto
from humble_ledger.core.workload.gathering import Gathering
from humble_ledger.core.workload.parts import Part, part_of
from humble_ledger.errors import HumbleError, TargetUnreachable, UnreadableInput, WrongUsage
from humble_ledger.workflow.capturing.log_forms import log_forms, packed_waiting, waiting_of
from humble_ledger.workflow.capturing.logged_plans import BestPlans
from humble_ledger.workflow.progress import Progress

CONNECT_TIMEOUT_S = 20
# So many workers may be lost while one log is read before it is taken for the cause.
MOST_LOST = 3
_LOOK_EVERY_S = 0.5


@dataclass(frozen=True, slots=True)
class LogOrder:
    """What a worker needs to read a log: see `logs.capture_logs`."""

    place: LogPlace
    name: str
    start: int
    waiting: bytes
    prefix: str | None
    mask: bool


@dataclass(slots=True)
class LogFound:
    """What was gathered of a log; ``position`` is how far it was read."""

    version: str
    part: Part
    tally: Tally
    plans: list[PlanSeen]
    plans_seen: int
    zoned: bool
    position: Position
    waiting: bytes


def read_whole(order: LogOrder) -> LogFound:
    """Read one log in this process.

    Raises:
        UnreadableInput: it cannot be opened here.
    """
    gathering, tally, plans = Gathering(numbered=True), Tally(), BestPlans(order.mask)
    desk = Desk(gathering, tally, Assembler(gathering, tally, plans.saw, order.mask))
    if order.start:
        desk.assembler.resume(waiting_of(order.waiting))
    reader = LogReader(order.place, order.start, order.name)
    end = order.start
    size = order.place.stat().st_size - order.start
    # Alone: whoever runs workers runs as many as there are processors.
    for end in read_onto(  # noqa: B007
        desk, reader, log_forms(), order.prefix, order.start, size, alone=True
    ):
        pass
    waiting = packed_waiting(desk.assembler.leave(), order.mask)
    best = plans.all()
    return LogFound(
        __version__, part_of(gathering), tally, best, plans.seen, desk.zoned,
        reader.position_at(end), waiting,
    )  # fmt: skip


def read_there(order: LogOrder) -> bytes:
    """On a worker: a log's part as bytes, or why it could not be read."""
    try:
        return b"+" + msgspec.msgpack.encode(read_whole(order))
    except HumbleError as error:
        return b"-" + msgspec.msgpack.encode((error.message, error.hint))
    except OSError as error:
        told = f"The file {order.place} cannot be read: {error.strerror or error}."
        hint = "All workers must reach the logs by the names that they have here."
        return b"-" + msgspec.msgpack.encode((told, hint))


def read_on(
    scheduler: str, orders: Sequence[LogOrder], progress: Progress = lambda _: None
) -> Iterator[LogFound]:
    """What the workers of a cluster find in logs, in the order of these.

    Raises:
        TargetUnreachable: nobody answers at the scheduler's address, or there are no workers.
        UnreadableInput: a log cannot be read there.
        WrongUsage: the cluster lacks this program, or has another version of it.
    """
    distributed = _distributed()
    try:
        _require_answer(scheduler)
        client = distributed.Client(
            scheduler, timeout=CONNECT_TIMEOUT_S, set_as_default=False, direct_to_workers=False
        )
    except (OSError, ValueError, TimeoutError) as error:
        raise TargetUnreachable(
            f"No scheduler answers at {scheduler}.", "Is its address like  tcp://host:8786 ?"
        ) from error
    with client:
        workers = client.scheduler_info(n_workers=-1)["workers"]
        if not workers:
            raise TargetUnreachable(
                f"The scheduler at {scheduler} has no workers.", "Start some:  dask worker ADDRESS"
            )
        progress(f"{len(orders):,} logs for {len(workers):,} workers")
        # Never the same as a task of another day: logs grow.
        futures = [client.submit(read_there, order, pure=False) for order in orders]
        try:
            for place, (order, future) in enumerate(zip(orders, futures, strict=True)):
                yield _found(future, order, distributed)
                futures[place] = None  # its part may go from the cluster's memory
        finally:
            with suppress(OSError, TimeoutError, RuntimeError):  # it may have gone away
                client.cancel([each for each in futures if each is not None], force=True)


def _require_answer(scheduler: str) -> None:
    """Knock at the scheduler's door: whoever waits for one that is not there waits long.

    Raises:
        OSError: nobody is there.
    """
    address = urlsplit(scheduler)
    if address.scheme in ("tcp", "tls") and address.hostname and address.port:
        place = address.hostname, address.port
        socket.create_connection(place, timeout=CONNECT_TIMEOUT_S).close()


def _found(future: Any, order: LogOrder, distributed: Any) -> LogFound:
    try:
        said = _result(future, distributed)
    except distributed.KilledWorker as error:
        raise TargetUnreachable(
            f"{MOST_LOST + 1} workers were lost while they read {order.place}.",
            "Have they memory enough? What was read before is kept; capture again to go on.",
        ) from error
    except (CancelledError, asyncio.CancelledError, OSError) as error:
        raise TargetUnreachable(
            f"The cluster went away while {order.place} was read.",
            "What was read before is kept; capture again to go on.",
        ) from error
    except (ModuleNotFoundError, AttributeError, ImportError) as error:
        raise WrongUsage(
            f"The cluster's workers cannot run this program: {error}.",
            f"Install there:  pip install 'humble-ledger[cluster]=={__version__}'",
        ) from error
    if said[:1] == b"-":
        message, hint = msgspec.msgpack.decode(said[1:])
        raise UnreadableInput(f"On a worker: {message}", hint)
    try:
        found = msgspec.msgpack.decode(said[1:], type=LogFound)
    except msgspec.DecodeError as error:
        raise _other_version("another version") from error
    if found.version != __version__:
        raise _other_version(found.version)
    return found


def _result(future: Any, distributed: Any) -> bytes:
    """Wait for a result in short steps, so that Ctrl-C is heard."""
    while True:
        try:
            return bytes(future.result(timeout=_LOOK_EVERY_S))
        except (TimeoutError, distributed.TimeoutError):
            # One whose worker was lost waits for another.
            if future.status in ("error", "cancelled"):
                raise
        except UnboundLocalError:
            # The library's wait was cancelled under it, as when a worker goes just now: then it
            # has neither a result nor an error to hand over.
            if future.status == "cancelled":
                raise CancelledError from None
            time.sleep(_LOOK_EVERY_S)


def _other_version(theirs: str) -> WrongUsage:
    return WrongUsage(
        f"The cluster's workers have version {theirs} of this program, and here is {__version__}.",
        f"Install there:  pip install 'humble-ledger[cluster]=={__version__}'",
    )


def _distributed() -> Any:
    try:
        import distributed  # noqa: PLC0415 - takes a second, and few have a cluster
    except ImportError as error:
        raise WrongUsage(
            "To read logs on a cluster its package is needed.",
            "Install it:  pip install 'humble-ledger[cluster]'",
        ) from error
    # It tells of lost workers and connections in its own words, at length; we tell what matters. So
    # does the loop it runs in, of a wait that Ctrl-C broke off before it had begun.
    for name in list(logging.root.manager.loggerDict):
        if name.partition(".")[0] in ("distributed", "tornado"):
            logging.getLogger(name).setLevel(logging.CRITICAL)
    return distributed
