"""The journal's tables with their versions, and its rows: messages of the plan, and files that were made."""

from __future__ import annotations

import csv
import json
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from wexagraph.messages.conversations import Thread
from wexagraph.messages.headers import Header
from wexagraph.notes import Note
from wexagraph.output.databases import Form
from wexagraph.output.target import Target
from wexagraph.sources.base import Envelope
from wexagraph.tables.columns import read_cell

_SCHEMA = """
CREATE TABLE message (
    number INTEGER PRIMARY KEY,
    source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL, id TEXT NOT NULL,
    size INTEGER NOT NULL, digest TEXT, arrival TEXT,
    facts TEXT NOT NULL, attachments TEXT NOT NULL DEFAULT '', notes TEXT NOT NULL DEFAULT '[]',
    outcome TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '', run INTEGER NOT NULL,
    tags TEXT NOT NULL DEFAULT '', turn INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX message_run ON message (run, folder, place);
CREATE TABLE name (
    message INTEGER NOT NULL, naming TEXT NOT NULL, key TEXT NOT NULL, stem TEXT NOT NULL, PRIMARY KEY (message, naming)
) WITHOUT ROWID;
CREATE INDEX name_key ON name (key);
CREATE TABLE file (
    path TEXT NOT NULL, message INTEGER NOT NULL, format TEXT NOT NULL, naming TEXT NOT NULL, recipe TEXT NOT NULL,
    size INTEGER NOT NULL, modified INTEGER NOT NULL, sha256 TEXT NOT NULL, notes TEXT NOT NULL DEFAULT '[]',
    PRIMARY KEY (message, path)
) WITHOUT ROWID;
CREATE TABLE held (path TEXT NOT NULL, turn INTEGER NOT NULL, digest TEXT NOT NULL, PRIMARY KEY (path, turn))
WITHOUT ROWID;
CREATE TABLE thread_of (message INTEGER PRIMARY KEY, thread TEXT NOT NULL);
CREATE TABLE made_with (run INTEGER PRIMARY KEY, parts TEXT NOT NULL);
CREATE TABLE attachment (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, name TEXT NOT NULL, type TEXT NOT NULL,
    size INTEGER NOT NULL, sha256 TEXT NOT NULL, path TEXT NOT NULL, modified INTEGER NOT NULL, note TEXT NOT NULL,
    recipe TEXT NOT NULL, PRIMARY KEY (message, key, wish)
) WITHOUT ROWID;
CREATE INDEX attachment_sha256 ON attachment (sha256);
CREATE INDEX attachment_path ON attachment (path);
CREATE TABLE document (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL,
    sha256 TEXT NOT NULL, modified INTEGER NOT NULL, state TEXT NOT NULL, recipe TEXT NOT NULL,
    PRIMARY KEY (message, key, wish)
) WITHOUT ROWID;
CREATE TABLE numbered (
    prefix TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, message INTEGER NOT NULL,
    sha256 TEXT NOT NULL, PRIMARY KEY (prefix, first)
) WITHOUT ROWID;
CREATE TABLE met (message INTEGER NOT NULL, recipe TEXT NOT NULL, PRIMARY KEY (message, recipe)) WITHOUT ROWID;
CREATE TABLE given (key TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE setting (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
"""
_TEMPORARY = """
CREATE TEMP TABLE fresh (
    message INTEGER PRIMARY KEY, key TEXT NOT NULL, stem TEXT NOT NULL, date TEXT NOT NULL
);
"""
_APART = "\x1f"  # the unit separator, which no line of text holds


def packed(texts: Iterable[str]) -> str:
    """Lines of text as one, for the journal."""
    return _APART.join(texts)


def unpacked(text: str) -> list[str]:
    """The lines of text that were packed."""
    return text.split(_APART)


UNDER_WAY = "under way"
"""The recipe of a file that is just being put in its place, where its bytes are not the same each time."""


RECOVERED = "recovered"
"""Of files that were made with options that nobody knows any more: an export makes them again, under the same names."""


@dataclass(slots=True)
class PlannedMessage:
    """A message as the plan meets it, and the name it would like. `key` is equal for names that collide.

    `facts` are date, from, to, cc and subject, packed; `notes` are on where its date is from;
    `arrival` is the mailbox's date, kept where the message has none; `date` orders messages that want one name.
    `tags` are joined with commas. `thread` and `bound` are how it hangs together with others, and the
    title and name of a bound PDF that begins with it, where messages are to be bound. `turn` is its number in the run.
    """

    place: str
    fingerprint: str
    id: str
    size: int
    arrival: str | None
    facts: str
    notes: str
    stem: str
    key: str
    date: str
    tags: str = ""
    thread: Thread | None = None
    bound: tuple[str, str] = ("", "")
    turn: int = 0


@dataclass(slots=True)
class MessageRecord:
    """A message as the journal knows it. `digest` is the SHA-256 of its bytes in hexadecimal, once they were read;
    `turn` its number in the last run that met it, which a pattern calls so."""

    number: int
    folder: str
    place: str
    stamp: str
    id: str
    size: int
    digest: str | None
    arrival: str | None = None
    stem: str = ""
    tags: str = ""
    facts: str = ""
    turn: int = 0

    def envelope(self) -> Envelope:
        """The message as its source's `read` takes it."""
        return Envelope(self.folder, self.place, self.size, Header(b""), self.stamp)

    @property
    def moment(self) -> datetime | None:
        """The mailbox's date for the message."""
        return datetime.fromisoformat(self.arrival) if self.arrival else None


def packed_notes(notes: Iterable[Note]) -> str:
    """Notes as the journal has them: JSON."""
    return json.dumps([(note.code, note.detail) for note in notes])


def unpacked_notes(text: str) -> list[Note]:
    """The notes that were packed."""
    return [Note(code, detail) for code, detail in json.loads(text)] if text != "[]" else []


@dataclass(frozen=True, slots=True)
class FileRecord:
    """A file that an export made of a message, or of none (0).

    `recipe` says what it was made with; `modified` is its time in nanoseconds.
    """

    path: str
    message: int
    format: str
    naming: str
    recipe: str
    size: int
    modified: int
    sha256: str
    notes: tuple[Note, ...] = ()

    @classmethod
    def of(cls, row: tuple[Any, ...]) -> FileRecord:
        """A row of the table `file`."""
        return cls(*row[:-1], tuple(unpacked_notes(row[-1])))  # type: ignore[call-arg]

    def is_ours(self, target: Target) -> bool:
        """Whether it may be replaced: of one that was only announced, if it was put too."""
        return self.recipe != UNDER_WAY or target.sha256(self.path) in (None, self.sha256)


def _with_tags(base: sqlite3.Connection) -> None:
    base.execute("ALTER TABLE message ADD COLUMN tags TEXT NOT NULL DEFAULT ''")


def _with_plain_texts(base: sqlite3.Connection) -> None:
    """Texts were kept as cells of a table, escaped for a spreadsheet."""
    base.create_function("plain", 1, lambda cells: packed(map(read_cell, next(csv.reader([cells]), [""]))))
    base.execute("UPDATE message SET facts=plain(facts), attachments=plain(attachments)")


def _with_turns(base: sqlite3.Connection) -> None:
    base.execute("ALTER TABLE message ADD COLUMN turn INTEGER NOT NULL DEFAULT 0")
    _make(base, "held", "thread_of", "made_with")


def _with_attachments(base: sqlite3.Connection) -> None:
    _make(base, "attachment", "document", "met", "given")


def _with_numbers(base: sqlite3.Connection) -> None:
    _make(base, "numbered")


def _with_settings(base: sqlite3.Connection) -> None:
    _make(base, "setting")


def _make(base: sqlite3.Connection, *tables: str) -> None:
    for statement in _SCHEMA.split(";"):
        if any(f"TABLE {name} (" in statement or f" ON {name} (" in statement for name in tables):
            base.execute(statement)


JOURNAL = Form(
    "the journal",
    _SCHEMA,
    version=7,
    since={
        2: _with_tags,
        3: _with_plain_texts,
        4: _with_turns,
        5: _with_attachments,
        6: _with_numbers,
        7: _with_settings,
    },
    settings=("synchronous = NORMAL", "journal_mode = TRUNCATE", "temp_store = FILE", "cache_size = -16000"),
    temporary=_TEMPORARY,
)
