"""The registers (a row a message) and the checksums of an export folder, written after each run.

A register that nobody has worked in is written anew. One that colleagues have worked in is brought up to date, and what
they did stays (`tables/living/table.py`).
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import groupby
from operator import itemgetter
from pathlib import Path
from typing import Any

from wexagraph.errors import CallError, TargetError
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, unpacked, unpacked_notes
from wexagraph.naming.paths import ATTACHMENT_LIST, MANIFEST, REGISTER, REGISTERS
from wexagraph.notes import CODES
from wexagraph.output.folder import OWN, OutputFolder
from wexagraph.output.target import Staging, Target
from wexagraph.tables.columns import Column, csv_row
from wexagraph.tables.living.files import Register, holder_of, opened, reading
from wexagraph.tables.living.keys import CHECK, check, message_digest, parse_key
from wexagraph.tables.living.table import Layout, Listing, LivingTable, Part, layout_of
from wexagraph.tables.message_columns import Filed, column_of, facts
from wexagraph.temporary import TemporaryFolder

_PATH, _NOTES = 11, 12
"""Where a row of the journal has the path of a file and the notes on it."""
_WORKED_IN = "worked in"
"""In the journal, of a register that holds what colleagues did."""


@dataclass(frozen=True)
class RegisterRow:
    """What the register has of a message. `facts` are its date, from, to, cc and subject."""

    id: str
    folder: str
    facts: list[str]
    attachments: list[str]
    size: int
    digest: str | None
    files: list[str]
    outcome: str
    notes: list[str]
    tags: str
    numbers: tuple[str, str] = ("", "")

    @property
    def date(self) -> datetime | str:
        """Its date; where it has none that can be read, what stands for it."""
        with suppress(ValueError):
            return datetime.fromisoformat(self.facts[0])
        return self.facts[0]


COLUMNS: list[Column[RegisterRow]] = [
    Column("id", lambda row: row.id, width=12, lasts=False),
    Column("folder", lambda row: row.folder, width=18, lasts=False),
    Column("date", lambda row: row.date, "moment", 17, lasts=False),
    Column("from", lambda row: row.facts[1], width=34, lasts=False),
    Column("to", lambda row: row.facts[2], width=34, lasts=False),
    Column("cc", lambda row: row.facts[3], width=34, lasts=False),
    Column("subject", lambda row: row.facts[4], width=48, lasts=False),
    Column("size", lambda row: row.size, "number", 11, lasts=False),
    Column("attachments", lambda row: len(row.attachments), "number", 15, lasts=False),
    Column("attachment_names", lambda row: "; ".join(row.attachments), width=34, lasts=False),
    Column("sha256", lambda row: row.digest, width=20, lasts=False),
    Column("tags", lambda row: row.tags, width=18, lasts=False),
    Column("files", lambda row: "; ".join(row.files), "link", 48, lasts=False),
    Column("outcome", lambda row: row.outcome, width=12, lasts=False),
    Column("notes", lambda row: "; ".join(row.notes), width=34, lasts=False),
]
_NUMBERS: list[Column[RegisterRow]] = [
    Column("first_number", lambda row: row.numbers[0], width=16, lasts=False),
    Column("last_number", lambda row: row.numbers[1], width=16, lasts=False),
]
"""Where the pages of a folder are numbered, there is more to tell."""
"""The columns of the register, with the names and in the order of `tables/message_columns.py`. A new one is a line."""
NAMES = tuple(column.name for column in COLUMNS)


def _column(name: str) -> Column[Any]:
    """A column of the register by its name; one of another version, or of the office, is left to whom it is of."""
    known = (each for each in (*COLUMNS, *_NUMBERS) if each.name == name)
    return next(known, Column(name, lambda row: None, "own"))


def _any_column(name: str) -> Column[Any]:
    """A column of any register that may lie in an export folder."""
    with suppress(CallError):
        return next((each for each in (*COLUMNS, *_NUMBERS) if each.name == name), None) or column_of(name)
    return Column(name, lambda row: None, "own")


def _register(numbered: bool = False) -> Register:
    usual = (*COLUMNS, *_NUMBERS) if numbered else tuple(COLUMNS)
    return Register(_column, usual=usual, title="Register of an export")


def write(target: Target, journal: Journal, forms: tuple[str, ...] = ("csv",)) -> list[tuple[str, str]]:
    """Write the registers and `manifest-sha256.txt`. Returns those that somebody has open, which are left as they are.

    A register that an earlier run has made is brought up to date too. Raises TargetError.
    """
    left = []
    _rename_earlier(target, journal)
    for form, name in REGISTERS.items():
        recorded = journal.files.listing(name)
        if form in forms or recorded is not None:
            holder = holder_of(target.folder / (recorded.path if recorded else name))
            if holder is not None:
                who = f" by {holder}" if holder else ""
                left.append((name, f"it is open{who} and was left as it was. The same command brings it up to date"))
            else:
                _write_register(target, journal, name, recorded)
    write_manifest(target, journal)
    return left


def write_manifest(target: Target, journal: Journal) -> None:
    """Write `manifest-sha256.txt`. Raises TargetError."""
    manifest = target.open_staging()
    with manifest.failing():
        for path, sha256 in journal.files.checksums():
            # our names hold no backslash and no line end, so the escapes of sha256sum are never needed
            manifest.file.write(f"{sha256}  {path}\n".encode("utf-8", "surrogateescape"))
    put_list(target, journal, manifest, MANIFEST)
    target.settle()


_OF_ATTACHMENTS = (
    "SELECT m.id, m.folder, m.facts, a.name, a.type, a.size, a.sha256, a.path, m.digest, a.note, "
    "coalesce(d.path, ''), coalesce(d.sha256, ''), coalesce(d.state, '') "
    "FROM attachment a JOIN message m ON m.number=a.message LEFT JOIN document d USING (message, key, wish) "
    "ORDER BY m.folder, m.place, m.number, a.key"
)
_ATTACHMENT_COLUMNS = (
    *("id", "folder", "date", "from", "subject", "attachment", "type", "size", "sha256", "file", "message_sha256"),
    *("notes", "pdf", "pdf_sha256", "pdf_state"),
)


def write_attachments(target: Target, journal: Journal) -> None:
    """Write `attachments.csv`, a row an attachment that is a file of its own, and `manifest-sha256.txt`. A list that
    somebody has changed is kept beside the new one. Raises TargetError."""
    _rename_earlier(target, journal)
    staging = target.open_staging()
    with staging.failing():
        staging.file.write(f"\ufeff{csv_row(_ATTACHMENT_COLUMNS)}".encode())
        for id, folder, written, *file, note, pdf, pdf_sha256, state in journal.ask(_OF_ATTACHMENTS):
            date, sender, *_, subject = unpacked(written)
            row = (id, folder, date, sender, subject, *file, CODES.get(note, ""), pdf, pdf_sha256, state)
            staging.file.write(csv_row(row).encode("utf-8", "surrogateescape"))
    put_list(target, journal, staging, ATTACHMENT_LIST)
    write_manifest(target, journal)


def _rename_earlier(target: Target, journal: Journal) -> None:
    """Earlier versions called the list of attachments as the register of messages is called: it gets its own name, or
    where somebody has changed it, stays as it is under another."""
    recorded = journal.files.listing(ATTACHMENT_LIST)
    if recorded is None or recorded.path != REGISTER:
        return
    path = ATTACHMENT_LIST
    if target.sha256(path) != recorded.sha256:  # else a run that was killed had renamed it
        path = target.free_path(path)
        if target.sha256(REGISTER) == recorded.sha256:
            target.rename(REGISTER, path)
        elif target.root.taken(REGISTER):
            target.set_aside(REGISTER)
    journal.files.forget_listing(ATTACHMENT_LIST)
    journal.files.record([replace(recorded, path=path)])


def _write_register(target: Target, journal: Journal, name: str, recorded: FileRecord | None) -> None:
    """Write a register: anew, or with what colleagues did in it."""
    path = recorded.path if recorded is not None else name
    digest = target.sha256(path) if recorded is not None else None
    worked_in = digest is not None and (digest not in _ours(recorded) or _is_worked_in(recorded))
    with TemporaryFolder() as folder:
        at = folder / name
        if worked_in:
            with target.root.reader(path) as old, open(at, "xb") as copy:
                shutil.copyfileobj(old, copy, 1 << 20)
            try:
                _fill(target, journal, name, at, digest)
                return
            except TargetError:
                at.unlink()  # what can't be read stays beside the new one
        _fill(target, journal, name, at, None)


def _is_worked_in(record: FileRecord | None) -> bool:
    return record is not None and record.naming == _WORKED_IN


def _ours(record: FileRecord | None) -> tuple[str, ...]:
    return (record.sha256, record.recipe) if record is not None else ()


def _fill(target: Target, journal: Journal, name: str, at: Path, digest: str | None) -> None:
    """Write the rows into the register that lies there, or into a new one. Raises TargetError."""
    with opened(at, _register(journal.numbers.any())) as sheet:
        with reading(at):
            table = LivingTable(sheet, _column)
            table.read()
        for row in rows_in(journal):
            table.meet(Listing(message_digest((row.digest or row.id).encode()), row.folder, row))
        table.finish()
        staging = target.open_staging()
        with staging.failing():
            sheet.save(staging.file)
    put_list(target, journal, staging, name, digest)


def put_list(target: Target, journal: Journal, staging: Staging, name: str, taken_up: str | None = None) -> None:
    """Put one of our lists in its place. What somebody has made of the old one meanwhile is kept beside it, but for the
    one of the digest `taken_up`, which is in the new one.

    The journal is told before, with the digests of the new list and of the old one: whichever of them a run that was
    killed in between has left, the next run knows it for its own. Raises TargetError.
    """
    recorded = journal.files.listing(name)
    path = recorded.path if recorded is not None else target.free_path(name)
    old = target.sha256(path)
    ours = _ours(recorded) if taken_up is None else (*_ours(recorded), taken_up)
    staged = target.put_list(staging, path, ours)
    naming = _WORKED_IN if taken_up is not None else ""
    record = FileRecord(path, 0, f"list:{name}", naming, old or "", staged.size, 0, staged.sha256)
    journal.files.record([record])
    journal.commit()
    target.put_staged_list(staged)


def recovered(name: str, digest: str) -> FileRecord:
    """A list of ours whose record was lost: of a register nobody knows what colleagues did in it."""
    return FileRecord(name, 0, f"list:{name}", _WORKED_IN if name in REGISTERS.values() else "", "", 0, 0, digest)


def rows_in(journal: Journal) -> Iterator[RegisterRow]:
    """What a journal has of each message, as the register tells it."""
    archives, held = journal.files.archives(), dict[str, set[str]]()
    for path in {path for paths in archives.values() for path in paths}:
        held[path] = set(journal.files.held(path))

    def archived(folder: str, digest: str | None) -> Iterator[str]:
        for path in archives.get(folder, ()):
            if not held[path] or digest in held[path]:  # of an earlier version nobody knows what it holds
                yield path

    for _, group in groupby(journal.register(), key=itemgetter(0)):
        files = list(group)
        _, id, folder, facts, attachments, size, digest, outcome, reason, planned, tags, *_ = files[0]
        notes = _texts({planned, *(file[_NOTES] for file in files)} - {"[]", None})
        paths = [
            *(file[_PATH] for file in files if file[_PATH]),
            *(archived(folder, digest) if outcome == "written" else ()),
        ]
        reasons = [reason, *notes] if reason else notes
        names = unpacked(attachments) if attachments else []
        yield RegisterRow(
            id, folder, unpacked(facts), names, size, digest, paths, outcome, reasons, tags, _numbers(files)
        )


def _numbers(files: list[tuple[Any, ...]]) -> tuple[str, str]:
    """The first and the last number on the pages of a message."""
    for *_, prefix, first, last in files:
        if prefix is not None:
            return f"{prefix}{first:06}", f"{prefix}{last:06}"
    return "", ""


def _texts(lists: set[str]) -> list[str]:
    notes = {note for text in lists for note in unpacked_notes(text)}
    return sorted(map(str, notes))


def filed_beside(folder: Path) -> dict[str, Filed]:
    """What an export in a folder has made of messages, by their facts; nothing where there is none that can be read."""
    try:
        rows = rows_of(folder) if (folder / OWN / "journal.sqlite").is_file() else []
    except TargetError:
        return {}
    return {
        facts(row.date if isinstance(row.date, datetime) else None, row.facts[1:]): Filed(
            tuple(row.files), tuple(row.notes), row.tags
        )
        for row in rows
    }


def files_by_digest(folder: Path) -> dict[str, list[str]]:
    """The files of an export folder that are there, by the digests of their messages."""
    rows = rows_of(folder) if (folder / OWN / "journal.sqlite").is_file() else []
    return {
        row.digest: row.files
        for row in rows
        if row.digest and row.files and all((folder / file).is_file() for file in row.files)
    }


def rows_of(folder: Path) -> list[RegisterRow]:
    """What an export in a folder has of each message. Raises TargetError where its journal can't be read."""
    try:
        with closing(Journal(folder / OWN / "journal.sqlite", reading=True)) as journal:
            return list(rows_in(journal))
    except TargetError as error:
        raise TargetError(
            f"the journal of {folder} can't be read: {error}. The same command again mends it."
        ) from error


@contextmanager
def _read(root: OutputFolder, name: str) -> Iterator[list[tuple[Part, Layout]]]:
    """The parts of a register as they are now, each with its layout. Raises TargetError, OSError."""
    with TemporaryFolder() as folder:
        at = folder / name
        with root.reader(name) as old, open(at, "xb") as copy:
            shutil.copyfileobj(old, copy, 1 << 20)
        with reading(at), opened(at, _register()) as sheet:
            yield [(part, layout_of(part, name, _any_column)) for part in sheet.parts]


def keys_of(root: OutputFolder, name: str) -> set[str] | None:
    """The messages of which a register has rows, by what their keys tell; None where none can be read."""
    try:
        with _read(root, name) as parts:
            rows = ((texts.get(layout.key, "")) for part, layout in parts for _, texts in part.rows(layout.kinds()))
            return {parsed[0].message for key in rows if (parsed := parse_key(key)) is not None}
    except (TargetError, OSError):
        return None


def about(root: OutputFolder, name: str) -> str | None:
    """What can be proved of a register that is other than the manifest has it: how many cells are as they were written.
    None where its keys can't be read."""
    rows = whole = by_hand = others = 0
    try:
        with _read(root, name) as parts:
            for part, layout in parts:
                for _, texts in part.rows(layout.kinds()):
                    _, checks = parse_key(texts.get(layout.key, "")) or (None, "")
                    rows += bool(checks)
                    for n, entry in enumerate(layout.entries):
                        if entry.at is not None and (written := checks[n * CHECK : (n + 1) * CHECK]):
                            as_written = written == check(entry.column.name, texts.get(entry.at, ""))
                            whole, by_hand = whole + as_written, by_hand + (not as_written)
            others = sum(bool(text) for part, _ in parts for text in part.heading)
            others -= len(parts[-1][1].entries) + 1
    except (TargetError, OSError):
        return None
    said = f"{rows:,} row{'s' * (rows != 1)}; {whole:,} cells are as they were written, {by_hand:,} changed by hand"
    if others <= 0:
        return said
    columns = f"{others:,} column{'s' * (others != 1)}"
    return f"{said}; what people have put into {columns} of their own is not proved"
