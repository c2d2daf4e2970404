"""The registers (a row a message, or an attachment) and the checksums of an export folder, written after each run.

A register that nobody has worked in is written anew. One that colleagues have worked in is brought up to date, and what
they did stays (`tables/living/table.py`).
"""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import partial
from itertools import groupby
from operator import itemgetter
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote

from wexagraph.errors import InUse, TargetError
from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import FileRecord, unpacked, unpacked_notes
from wexagraph.languages import ENGLISH, Language, language
from wexagraph.naming.office_names import NO_NAMES, OfficeNames
from wexagraph.naming.paths import ATTACHMENT_LIST, ATTACHMENT_LISTS, MANIFEST, REGISTER, REGISTERS, signs_of_seals
from wexagraph.notes import CODES, Note, protection_word
from wexagraph.output.folder import OWN
from wexagraph.output.target import Staging, Target
from wexagraph.tables.columns import Column
from wexagraph.tables.living.files import Register, holder_of, opened, reading
from wexagraph.tables.living.keys import message_digest
from wexagraph.tables.living.table import Listing, LivingTable
from wexagraph.tables.message_columns import Filed, facts
from wexagraph.temporary import TemporaryFolder

_PATH, _NOTES = 11, 12
"""Where a row of the journal has the path of a file and the notes on it."""
_LINKS, _WORDING, KEYS = "links", "wording", "keys"
"""What the journal keeps of the folder: where others find its files, and how its registers say it."""
_WORKED_IN = "worked in"
"""In the journal, of a register that holds what colleagues did."""


@dataclass(frozen=True)
class RegisterRow:
    """What the register has of a message. `facts` are its date, from, to, cc and subject; `notes` are in words, as
    `noted`."""

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
    links: tuple[str, ...] = ()
    noted: frozenset[Note] = frozenset()

    @property
    def date(self) -> datetime | str:
        """Its date; where it has none that can be read, what stands for it."""
        return _moment(self.facts[0])


class AttachmentRow(NamedTuple):
    """What the register has of an attachment that is a file of its own."""

    id: str
    folder: str
    facts: list[str]
    name: str
    type: str
    size: int
    sha256: str
    file: str
    message_sha256: str | None
    notes: str
    pdf: str
    pdf_sha256: str
    pdf_state: str

    @property
    def date(self) -> datetime | str:
        """The date of its message."""
        return _moment(self.facts[0])


def _moment(text: str) -> datetime | str:
    with suppress(ValueError):
        return datetime.fromisoformat(text)
    return text


_ORIGIN: list[Column[Any]] = [
    Column("id", lambda row: row.id, width=12, lasts=False),
    Column("folder", lambda row: row.folder, width=18, lasts=False),
    Column("date", lambda row: row.date, "moment", 17, lasts=False),
    Column("from", lambda row: row.facts[1], width=34, lasts=False),
]
"""What each row has of its message."""
COLUMNS: list[Column[RegisterRow]] = [
    *_ORIGIN,
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
NUMBERS: list[Column[RegisterRow]] = [
    Column("first_number", lambda row: row.numbers[0], width=16, lasts=False),
    Column("last_number", lambda row: row.numbers[1], width=16, lasts=False),
]
"""Where the pages of a folder are numbered, there is more to tell."""
PROTECTION: list[Column[RegisterRow]] = [
    Column("protected", lambda row: protection_word(row.noted, "encrypted"), width=12, lasts=False),
    Column("signed", lambda row: protection_word(row.noted, "signed"), width=16, lasts=False),
    Column("sender_mark", lambda row: protection_word(row.noted, "marked"), width=16, lasts=False),
]
"""Where a run had keys, it is told what they have opened and proved."""
LINK: Column[RegisterRow] = Column("link", lambda row: "; ".join(row.links), width=48, lasts=False)
"""Where a folder was delivered to, others find its files there."""
OF_ATTACHMENTS: list[Column[AttachmentRow]] = [
    *_ORIGIN,
    Column("subject", lambda row: row.facts[4], width=48, lasts=False),
    Column("attachment", lambda row: row.name, width=34, lasts=False),
    Column("type", lambda row: row.type, width=22, lasts=False),
    Column("size", lambda row: row.size, "number", 11, lasts=False),
    Column("sha256", lambda row: row.sha256, width=20, lasts=False),
    Column("file", lambda row: row.file, "link", 48, lasts=False),
    Column("message_sha256", lambda row: row.message_sha256, width=20, lasts=False),
    Column("notes", lambda row: row.notes, width=34, lasts=False),
    Column("pdf", lambda row: row.pdf, "link", 48, lasts=False),
    Column("pdf_sha256", lambda row: row.pdf_sha256, width=20, lasts=False),
    Column("pdf_state", lambda row: row.pdf_state, width=16, lasts=False),
]
"""The columns of the registers, with the names and in the order of `tables/message_columns.py`. A new one is a line."""


@dataclass(frozen=True)
class Wording:
    """How a register says it: in a language, and with the office's own names for addresses."""

    tr: Language = field(default_factory=lambda: language(ENGLISH))
    names: OfficeNames = NO_NAMES

    def facts(self, written: list[str]) -> list[str]:
        """Date, from, to, cc and subject with those names."""
        return [written[0], *map(self.names.listed, written[1:4]), *written[4:]] if self.names else written

    def keep(self, journal: Journal) -> None:
        """Have a journal keep it, for commands that know neither language nor names."""
        journal.keep_setting(_WORDING, json.dumps([self.tr.code, self.names.rows], ensure_ascii=False))

    @classmethod
    def of(cls, journal: Journal) -> Wording:
        """How the registers of a folder were written the last time."""
        code, rows = json.loads(journal.setting(_WORDING) or f'["{ENGLISH}", []]')
        return cls(language(code), OfficeNames(tuple(map(tuple, rows))))


@dataclass(frozen=True)
class Kind:
    """A kind of register beside what an export makes: its files by their forms, its columns, and its rows."""

    files: dict[str, str]
    title: str
    columns: Callable[[Journal], Sequence[Column[Any]]]
    listings: Callable[[Journal, Wording], Iterator[Listing]]
    more: Sequence[Column[Any]] = ()
    """Columns that not each of its folders has."""

    def column(self, journal: Journal, name: str) -> Column[Any]:
        """A column by its name; one of another version, or of the office, is left to whom it is of."""
        return named_column(name, (*self.columns(journal), *self.more))


def _columns(journal: Journal) -> Sequence[Column[Any]]:
    numbers = NUMBERS if journal.numbers.any() else []
    protection = PROTECTION if journal.setting(KEYS) else []
    return [*COLUMNS, *numbers, *protection, *([LINK] if journal.setting(_LINKS) else [])]


def _messages(journal: Journal, wording: Wording) -> Iterator[Listing]:
    for row in rows_in(journal, wording):
        yield Listing(message_digest((row.digest or row.id).encode()), row.folder, row)


def _attachments(journal: Journal, wording: Wording) -> Iterator[Listing]:
    for key, id, folder, packed, *file, note, pdf, pdf_sha256, state in journal.ask(_ATTACHMENTS):
        notes = wording.tr(CODES.get(note, ""))
        written = wording.facts(unpacked(packed))
        row = AttachmentRow._make((id, folder, written, *file, notes, pdf, pdf_sha256, state))
        identity = f"{row.message_sha256 or id}|{key}|{row.sha256}"
        yield Listing(message_digest(identity.encode("utf-8", "surrogateescape")), folder, row)


_ATTACHMENTS = (
    "SELECT a.key, m.id, m.folder, m.facts, a.name, a.type, a.size, a.sha256, a.path, m.digest, a.note, "
    "coalesce(d.path, ''), coalesce(d.sha256, ''), coalesce(d.state, '') "
    "FROM attachment a JOIN message m ON m.number=a.message LEFT JOIN document d USING (message, key, wish) "
    "ORDER BY m.folder, m.place, m.number, a.key"
)
_OF_MESSAGES = Kind(REGISTERS, "Register of an export", _columns, _messages, (*NUMBERS, *PROTECTION, LINK))
_OF_ATTACHMENTS = Kind(ATTACHMENT_LISTS, "Register of attachments", lambda journal: OF_ATTACHMENTS, _attachments)
KINDS = {name: kind for kind in (_OF_MESSAGES, _OF_ATTACHMENTS) for name in kind.files.values()}


def named_column(name: str, columns: Sequence[Column[Any]]) -> Column[Any]:
    return next((each for each in columns if each.name == name), Column(name, lambda row: None, "own"))


def write(
    target: Target, journal: Journal, forms: tuple[str, ...] = ("csv",), wording: Wording | None = None
) -> list[tuple[str, str]]:
    """Write the registers of messages and `manifest-sha256.txt`. Returns those that somebody has open, which are left
    as they are.

    A register that an earlier run has made is brought up to date too. Raises TargetError.
    """
    return _write(target, journal, _OF_MESSAGES, forms, wording or Wording.of(journal))


def write_attachments(
    target: Target, journal: Journal, forms: tuple[str, ...] = ("csv",), wording: Wording | None = None
) -> list[tuple[str, str]]:
    """The same for the registers of attachments that are files of their own. Raises TargetError."""
    return _write(target, journal, _OF_ATTACHMENTS, forms, wording or Wording.of(journal))


def tell_links(folder: Path, address: str) -> list[tuple[str, str]]:
    """Have the registers of an export folder tell the addresses of its files below one of the folder. Returns those
    that somebody has open, or that are just being written. Raises TargetError."""
    left: list[tuple[str, str]] = []
    try:
        with closing(Target(folder)) as target, closing(Journal(target.database("journal.sqlite"))) as journal:
            if journal.setting(_LINKS) != address and journal.has_exported():
                journal.keep_setting(_LINKS, address)
                left = write(target, journal, ())
                journal.commit()
    except InUse:
        left.append(
            (str(folder), "another run is writing to it. `deliver --links` tells its register the addresses later")
        )
    return left


def _write(
    target: Target, journal: Journal, kind: Kind, forms: tuple[str, ...], wording: Wording
) -> list[tuple[str, str]]:
    left = []
    wording.keep(journal)
    _rename_earlier(target, journal)
    for form, name in kind.files.items():
        recorded = journal.files.listing(name)
        if form in forms or recorded is not None:
            holder = holder_of(target.folder / (recorded.path if recorded else name))
            if holder is not None:
                who = f" by {holder}" if holder else ""
                left.append((name, f"it is open{who} and was left as it was. The same command brings it up to date"))
            else:
                _write_register(target, journal, name, recorded, wording)
    write_manifest(target, journal)
    return left


def write_manifest(target: Target, journal: Journal) -> None:
    """Write `manifest-sha256.txt`. Raises TargetError."""
    manifest = target.open_staging()
    digest = hashlib.sha256()
    with manifest.failing():
        for path, sha256 in journal.files.checksums():
            # our names hold no backslash and no line end, so the escapes of sha256sum are never needed
            line = f"{sha256}  {path}\n".encode("utf-8", "surrogateescape")
            manifest.file.write(line)
            digest.update(line)
    if digest.hexdigest() != target.sha256(MANIFEST):
        _keep_seals(target)
    put_list(target, journal, manifest, MANIFEST)
    target.settle()


def _keep_seals(target: Target) -> None:
    """The list of checksums becomes another: where it was sealed, the one that was is kept with its seals."""
    if not any(map(target.root.taken, signs_of_seals(MANIFEST))):
        return
    from wexagraph.seals.sealing import keep_earlier

    try:
        keep_earlier(target.root)
    except OSError as error:
        raise target.failed(error) from error


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


def _write_register(target: Target, journal: Journal, name: str, recorded: FileRecord | None, wording: Wording) -> None:
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
                _fill(target, journal, name, at, digest, wording)
                return
            except TargetError:
                at.unlink()  # what can't be read stays beside the new one
        _fill(target, journal, name, at, None, wording)


def _is_worked_in(record: FileRecord | None) -> bool:
    return record is not None and record.naming == _WORKED_IN


def _ours(record: FileRecord | None) -> tuple[str, ...]:
    return (record.sha256, record.recipe) if record is not None else ()


def _fill(target: Target, journal: Journal, name: str, at: Path, digest: str | None, wording: Wording) -> None:
    """Write the rows into the register that lies there, or into a new one. Raises TargetError."""
    kind = KINDS[name]
    resolve = partial(kind.column, journal)
    register = Register(resolve, usual=tuple(kind.columns(journal)), title=kind.title, tr=wording.tr)
    with opened(at, register) as sheet:
        with reading(at):
            new = [column for column in kind.columns(journal) if column in kind.more]
            table = LivingTable(sheet, resolve, new, tr=wording.tr)
            table.read()
        for listing in kind.listings(journal, wording):
            table.meet(listing)
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
    return FileRecord(name, 0, f"list:{name}", _WORKED_IN if name in KINDS else "", "", 0, 0, digest)


def rows_in(journal: Journal, wording: Wording | None = None) -> Iterator[RegisterRow]:
    """What a journal has of each message, as the register tells it."""
    wording = wording or Wording()
    archives, held = journal.files.archives(), dict[str, set[str]]()
    address = journal.setting(_LINKS)
    for path in {path for paths in archives.values() for path in paths}:
        held[path] = set(journal.files.held(path))

    def archived(folder: str, digest: str | None) -> Iterator[str]:
        for path in archives.get(folder, ()):
            if not held[path] or digest in held[path]:  # of an earlier version nobody knows what it holds
                yield path

    for _, group in groupby(journal.register(), key=itemgetter(0)):
        files = list(group)
        _, id, folder, facts, attachments, size, digest, outcome, reason, planned, tags, *_ = files[0]
        packed_notes = {planned, *(file[_NOTES] for file in files)} - {"[]", None}
        notes = {note for text in packed_notes for note in unpacked_notes(text)}
        told = sorted(note.in_words(wording.tr) for note in notes)
        paths = [
            *(file[_PATH] for file in files if file[_PATH]),
            *(archived(folder, digest) if outcome == "written" else ()),
        ]
        reasons = [reason, *told] if reason else told
        names = unpacked(attachments) if attachments else []
        yield RegisterRow(
            *(id, folder, wording.facts(unpacked(facts)), names, size, digest, paths, outcome, reasons, tags),
            _numbers(files),
            tuple(f"{address}/{quote(path, errors='surrogateescape')}" for path in paths) if address else (),
            frozenset(notes),
        )


def _numbers(files: list[tuple[Any, ...]]) -> tuple[str, str]:
    """The first and the last number on the pages of a message."""
    for *_, prefix, first, last in files:
        if prefix is not None:
            return f"{prefix}{first:06}", f"{prefix}{last:06}"
    return "", ""


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
