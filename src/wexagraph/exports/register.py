"""The register (a row a message) and the checksums of an export folder, written anew after each run."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import groupby
from operator import itemgetter

from wexagraph.exports.journal import Journal
from wexagraph.exports.message_records import FileRecord, unpacked
from wexagraph.naming.paths import MANIFEST, REGISTER
from wexagraph.notes import Note
from wexagraph.output.target import Staging, Target
from wexagraph.tables.columns import Column, heading, row
from wexagraph.tables.csvs import MARK


@dataclass(frozen=True)
class RegisterRow:
    """What the register has of a message. `facts` are its date, from, to, cc and subject."""

    id: str
    folder: str
    facts: list[str]
    attachments: str
    size: int
    digest: str | None
    files: list[str]
    outcome: str
    notes: list[str]
    tags: str


COLUMNS: list[Column[RegisterRow]] = [
    Column("id", lambda row: row.id),
    Column("folder", lambda row: row.folder),
    Column("date", lambda row: row.facts[0]),
    Column("from", lambda row: row.facts[1]),
    Column("to", lambda row: row.facts[2]),
    Column("cc", lambda row: row.facts[3]),
    Column("subject", lambda row: row.facts[4]),
    Column("attachments", lambda row: row.attachments),
    Column("size", lambda row: row.size),
    Column("sha256", lambda row: row.digest),
    Column("files", lambda row: "; ".join(row.files)),
    Column("outcome", lambda row: row.outcome),
    Column("notes", lambda row: "; ".join(row.notes)),
    Column("tags", lambda row: row.tags),
]
"""The columns of the register. A new one is a line here."""
NAMES = tuple(column.name for column in COLUMNS)


def write(target: Target, journal: Journal) -> None:
    """Write `register.csv` (RFC 4180, UTF-8 with a byte order mark) and `manifest-sha256.txt`. Raises TargetError."""
    register = target.open_staging()
    with register.failing():
        register.file.write(MARK + heading(COLUMNS).encode("ascii"))
        for each in _rows(journal):
            register.file.write(row(COLUMNS, each).encode("utf-8", "surrogateescape"))
    _put(target, journal, register, REGISTER)
    manifest = target.open_staging()
    with manifest.failing():
        for path, sha256 in journal.files():
            # our names hold no backslash and no line end, so the escapes of sha256sum are never needed
            manifest.file.write(f"{sha256}  {path}\n".encode("utf-8", "surrogateescape"))
    _put(target, journal, manifest, MANIFEST)
    target.settle()


def _put(target: Target, journal: Journal, staging: Staging, name: str) -> None:
    """Put one of our two lists in its place. What somebody has made of the old one meanwhile is kept beside it.

    The journal is told before, with the digests of the new list and of the old one: whichever of them a run that was
    killed in between has left, the next run knows it for its own.
    """
    recorded = journal.listing(name)
    path = recorded.path if recorded is not None else target.free_path(name)
    old = target.sha256(path)
    ours = (recorded.sha256, recorded.recipe) if recorded is not None else ()
    staged = target.put_list(staging, path, ours)
    journal.record([FileRecord(path, 0, f"list:{name}", "", old or "", staged.size, 0, staged.sha256)])
    journal.commit()
    target.put_staged_list(staged)


def _rows(journal: Journal) -> Iterator[RegisterRow]:
    archives = journal.archives()
    for _, group in groupby(journal.register(), key=itemgetter(0)):
        files = list(group)
        _, id, folder, facts, attachments, size, digest, outcome, reason, planned, tags, _, _ = files[0]
        notes = _texts({planned, *(file[-1] for file in files)} - {"[]", None})
        paths = [*(file[-2] for file in files if file[-2]), *(archives.get(folder, ()) if outcome == "written" else ())]
        reasons = [reason, *notes] if reason else notes
        yield RegisterRow(id, folder, unpacked(facts), attachments, size, digest, paths, outcome, reasons, tags)


def _texts(lists: set[str]) -> list[str]:
    notes = {Note(code, detail) for text in lists for code, detail in json.loads(text)}
    return sorted(map(str, notes))
