"""Bundles: entries of a ledger as JSON Lines in a zip, for a colleague who goes on there."""

from __future__ import annotations

import json
import zipfile
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import groupby
from pathlib import Path
from typing import Any

import msgspec

from humble_ledger import __version__
from humble_ledger.core.results.bundles import Bundled
from humble_ledger.errors import UnreadableInput
from humble_ledger.ledger.bundles.putting import put
from humble_ledger.ledger.bundles.records import FILES, VERSION, Records, read_record
from humble_ledger.ledger.bundles.taking import take
from humble_ledger.ledger.repository import Ledger
from humble_ledger.ledger.shelf import now, whoever
from humble_ledger.ledger.store.place import place_of
from humble_ledger.workflow.configuration import shown_place
from humble_ledger.workflow.progress import Progress
from humble_ledger.workflow.sharing.masking import masked_record
from humble_ledger.workflow.workspace import Workspace

FORMAT = "humble-ledger-bundle"
MANIFEST = "manifest.json"
MOST_BYTES = 8 * 1024**3  # of a bundle unpacked; a zip may promise anything
LONGEST_LINE = 512 * 1024**2


def export(
    workspace: Workspace,
    ids: Sequence[str],
    to: Path,
    *,
    mask: bool = False,
    progress: Progress = lambda _: None,
) -> Bundled:
    """Write a bundle of all entries, or of those about some.

    Raises:
        WrongUsage: an id that the ledger does not have.
        UnreadableInput: the file cannot be written.
    """
    ledger, counts = workspace.ledger, Counter[str]()
    person, machine = whoever()
    try:
        with zipfile.ZipFile(to, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as file:
            for name, records in groupby(take(ledger, ids), key=lambda each: each[0]):
                progress(f"writing {name}")
                with file.open(f"{name}.jsonl", "w", force_zip64=True) as lines:
                    for _, record in records:
                        kept = masked_record(name, record) if mask else record
                        if kept is not None:
                            counts[name] += 1
                            lines.write(msgspec.json.encode(kept) + b"\n")
            manifest = {
                "format": FORMAT,
                "version": VERSION,
                "program": __version__,
                "made_at": now(),
                "ledger": ledger.uid,
                "person": "" if mask else person,
                "machine": "" if mask else machine,
                "masked": mask or workspace.configuration.mask,
                "records": dict(counts),
            }
            file.writestr(MANIFEST, json.dumps(manifest, indent=1) + "\n")
    except OSError as error:
        raise UnreadableInput(
            f"{to} cannot be written: {error.strerror}.", "Name another file with  --to"
        ) from error
    size = to.stat().st_size
    return Bundled(str(to), ledger.uid, mask, dict(counts), size_bytes=size)


def import_bundle(workspace: Workspace, path: Path, progress: Progress = lambda _: None) -> Bundled:
    """Put the entries of a bundle into the ledger; those that are there already stay as they are.

    Raises:
        UnreadableInput: it is none, it is torn, or it was written by a newer version.
    """
    workspace.require_ledger()
    try:
        with zipfile.ZipFile(path) as file:
            manifest = _manifest(path, file)
            found = put(
                workspace.ledger,
                _records(path, file, progress),
                f"{path.name} of ledger {manifest['ledger']}",
            )
    except (OSError, zipfile.BadZipFile, EOFError, RuntimeError, NotImplementedError) as error:
        told = getattr(error, "strerror", None) or str(error)
        raise UnreadableInput(
            f"{path} is no bundle that can be read: {told}.",
            "Have it exported anew with:  humble export --to FILE",
        ) from error
    return Bundled(
        str(path), manifest["ledger"], bool(manifest["masked"]), found.new, found.known,
        path.stat().st_size,
    )  # fmt: skip


def merge(workspace: Workspace, other: str, progress: Progress = lambda _: None) -> Bundled:
    """Put the entries of another ledger into this one; the other is only read.

    Raises:
        LedgerUnreachable: there is none at that place.
        WrongUsage: the text names no place for a ledger.
    """
    workspace.require_ledger()
    place = place_of(other, Path.cwd())
    with Ledger(place) as ledger:
        progress(f"reading {shown_place(place, Path.cwd())}")
        name = place.name if isinstance(place, Path) else str(place)
        found = put(workspace.ledger, take(ledger), f"{name}, ledger {ledger.uid}")
        return Bundled(shown_place(place, Path.cwd()), ledger.uid, False, found.new, found.known)


def _manifest(path: Path, file: zipfile.ZipFile) -> dict[str, Any]:
    try:
        found = json.loads(file.read(MANIFEST))
    except (KeyError, ValueError) as error:
        raise UnreadableInput(
            f"{path} is no bundle: it has no {MANIFEST} that can be read.",
            "Bundles are written by  humble export",
        ) from error
    if not isinstance(found, dict) or found.get("format") != FORMAT:
        raise UnreadableInput(
            f"{path} is no bundle of this program.", "Bundles are written by  humble export"
        )
    version = found.get("version")
    if not isinstance(version, int) or version > VERSION:
        raise UnreadableInput(
            f"{path} was written by a newer version of this program (bundle version {version}, "
            f"this one reads {VERSION}).",
            "Update with:  pip install --upgrade humble-ledger",
        )
    if sum(each.file_size for each in file.infolist()) > MOST_BYTES:
        raise UnreadableInput(
            f"{path} would unpack to more than {MOST_BYTES // 1024**3} GiB.", "It is not read."
        )
    return {"ledger": str(found.get("ledger", "")), "masked": found.get("masked", False)}


def _records(path: Path, file: zipfile.ZipFile, progress: Progress) -> Records:
    there = set(file.namelist())
    for name in FILES:
        if f"{name}.jsonl" not in there:
            continue
        progress(f"reading {name}")
        with file.open(f"{name}.jsonl") as lines:
            for number, line in enumerate(_lines(lines), 1):
                try:
                    record: Any = read_record(name, line)
                except (msgspec.DecodeError, RecursionError) as error:
                    raise UnreadableInput(
                        f"{path}: line {number} of {name}.jsonl cannot be read: {error}.",
                        "It was changed or torn, and nothing of it was kept.",
                    ) from error
                if record.version > VERSION:
                    raise UnreadableInput(
                        f"{path}: line {number} of {name}.jsonl is of version {record.version}, "
                        f"and this program reads {VERSION}.",
                        "Update with:  pip install --upgrade humble-ledger",
                    )
                yield name, record


def _lines(file: Any) -> Iterator[bytes]:
    while line := file.readline(LONGEST_LINE):
        if line.strip():
            yield line
