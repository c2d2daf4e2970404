"""The machine's own record of attachments that were taken out: which, from which message, to which file."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

from wexagraph.exports.attachments.entries import Document, Entry, Origin
from wexagraph.naming import collision_key, with_extension
from wexagraph.naming.paths import RESERVED, with_number
from wexagraph.output.databases import ASIDE, Database, Form
from wexagraph.output.target import Target
from wexagraph.sources import Envelope

_OFTEN = 16
"""Attachments of one name, from which on it is remembered up to which number their names are given."""
_SCHEMA = """
CREATE TABLE IF NOT EXISTS message (
    number INTEGER PRIMARY KEY, source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL,
    id TEXT NOT NULL, date TEXT NOT NULL, sender TEXT NOT NULL, subject TEXT NOT NULL, sha256 TEXT NOT NULL,
    UNIQUE (source, folder, place, stamp)
);
CREATE TABLE IF NOT EXISTS met (message INTEGER NOT NULL, recipe TEXT NOT NULL, PRIMARY KEY (message,
recipe)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS attachment (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, name TEXT NOT NULL, type TEXT NOT NULL,
    size INTEGER NOT NULL, sha256 TEXT NOT NULL, path TEXT NOT NULL, modified INTEGER NOT NULL, note TEXT NOT NULL,
    recipe TEXT NOT NULL, PRIMARY KEY (message, key, wish)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS document (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL,
    sha256 TEXT NOT NULL, modified INTEGER NOT NULL, state TEXT NOT NULL, recipe TEXT NOT NULL,
    PRIMARY KEY (message, key, wish)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS attachment_sha256 ON attachment (sha256);
CREATE INDEX IF NOT EXISTS attachment_path ON attachment (path);
CREATE INDEX IF NOT EXISTS message_sha256 ON message (sha256);
CREATE TABLE IF NOT EXISTS name (key TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS list (name TEXT PRIMARY KEY, path TEXT NOT NULL, sha256 TEXT NOT NULL);
"""
_LEDGER = Form(
    "the record of attachments", _SCHEMA, temporary="CREATE TEMP TABLE met_now (message INTEGER PRIMARY KEY);"
)


class Ledger:
    """SQLite in the target's own folder. All methods raise TargetError where the disk fails."""

    def __init__(self, path: Path, recipes: Sequence[str]) -> None:
        """`recipes` are those of the attachments themselves and of their PDFs; "" for what is not asked for."""
        self._recipes = tuple(recipes)
        # damaged, it is set aside: files that are there are known by their bytes
        self._base = Database(path, _LEDGER, ASIDE, together=True)
        self.is_new = self._base.is_new
        self._numbers: dict[tuple[str, str, str, str], int] = {}
        self._given: dict[str, int] = {}

    def close(self) -> None:
        self._base.close()

    def ask(self, sql: str, *values: Any) -> sqlite3.Cursor:
        """Run one statement, for what belongs to a room of its own (`exports/attachments/register.py`)."""
        return self._base.ask(sql, values)

    def known(self, source: str, where: Envelope | Origin) -> list[Entry] | None:
        """What a run with these options has taken from this message; None where none has met it."""
        where_values = (source, where.folder, where.place, where.fingerprint())
        for recipe in filter(None, self._recipes):
            row = self.ask(
                "SELECT number FROM message JOIN met ON message=number "
                "WHERE source=? AND folder=? AND place=? AND stamp=? AND recipe=?",
                *where_values,
                recipe,
            ).fetchone()
            if row is None:
                return None
        self.ask("INSERT OR IGNORE INTO met_now VALUES (?)", row[0])
        origin = Origin(where.folder, where.place, where.fingerprint(), "", "", "", "")
        native, paged = self._recipes
        return [
            entry
            for entry in self._entries(origin, row[0])
            if (native and entry.recipe == native) or (paged and entry.document and entry.document.recipe == paged)
        ]

    def digest(self, source: str, where: Envelope) -> str:
        """The SHA-256 of a message that was met, in hexadecimal."""
        row = self.ask(
            "SELECT sha256 FROM message WHERE source=? AND folder=? AND place=? AND stamp=?",
            source,
            where.folder,
            where.place,
            where.fingerprint(),
        ).fetchone()
        return str(row[0]) if row else ""

    def before(self, entry: Entry) -> Entry | None:
        """The same attachment of the same message under the same name, as an earlier run took it."""
        return next(self._entries(entry.origin, self._number(entry.origin), entry), None)

    def _entries(self, origin: Origin, number: int, like: Entry | None = None) -> Iterator[Entry]:
        narrowed, values = ("AND key=? AND wish=?", (like.key, like.wish)) if like else ("", ())
        rows = self.ask(
            "SELECT key, wish, a.name, a.type, a.size, a.sha256, a.path, a.modified, a.note, a.recipe, "
            "d.state, d.path, d.size, d.sha256, d.modified, d.recipe "
            "FROM attachment a LEFT JOIN document d USING (message, key, wish) "
            f"WHERE message=? {narrowed} ORDER BY key",
            number,
            *values,
        )
        for row in rows.fetchall():
            entry = Entry(origin, *row[:10])
            entry.document = Document(*row[10:]) if row[10] is not None else None
            yield entry

    def document_of(self, sha256: str) -> Document | None:
        """The PDF that was made in this way of an attachment with these bytes."""
        row = self.ask(
            "SELECT d.state, d.path, d.size, d.sha256, d.modified, d.recipe FROM document d "
            "JOIN attachment a USING (message, key, wish) WHERE a.sha256=? AND d.recipe=? "
            "ORDER BY message, key LIMIT 1",
            sha256,
            self._recipes[1],
        ).fetchone()
        return Document(*row) if row else None

    def path_of(self, sha256: str) -> str | None:
        """The file in which these bytes are already."""
        row = self.ask(
            "SELECT path FROM attachment WHERE sha256=? AND path<>'' ORDER BY message, key LIMIT 1", sha256
        ).fetchone()
        return str(row[0]) if row else None

    def is_of_another(self, entry: Entry) -> bool:
        """Whether the file of an attachment was written for another one with the same bytes."""
        row = self.ask(
            "SELECT message, key, wish FROM attachment WHERE path=? ORDER BY message, key, wish LIMIT 1", entry.path
        ).fetchone()
        return row is not None and tuple(row) != (self._number(entry.origin), entry.key, entry.wish)

    def free(self, path: str, sha256: str, target: Target) -> tuple[str, bool]:
        """The first path of this name that collides with none; it is taken from now on. Also whether these very bytes
        lie there already."""
        folder, slash, name = path.rpartition("/")
        stem, suffix = with_extension(name)
        key, whole = collision_key(path), folder + slash + stem
        given = self._given.get(key, 0)
        while self._is_given(with_number(whole, suffix, given + 1)):
            given += 1
        if given >= _OFTEN:
            self._given[key] = given
        number = given + 1
        while True:
            candidate = with_number(whole, suffix, number)
            if not self._is_given(candidate):
                taken = target.taken(candidate)
                there = taken and candidate.lower() not in RESERVED and target.sha256(candidate) == sha256
                if there or not taken:
                    self.ask("INSERT INTO name VALUES (?)", collision_key(candidate))
                    return candidate, there
            number += 1

    def _is_given(self, path: str) -> bool:
        return self.ask("SELECT 1 FROM name WHERE key=?", collision_key(path)).fetchone() is not None

    def add(self, entry: Entry) -> None:
        self.ask(
            "INSERT OR REPLACE INTO attachment VALUES (?,?,?,?,?,?,?,?,?,?,?)",
            self._number(entry.origin),
            entry.key,
            entry.wish,
            entry.name,
            entry.type,
            entry.size,
            entry.sha256,
            entry.path,
            entry.modified,
            entry.note,
            entry.recipe,
        )
        if (document := entry.document) is not None:
            self.ask(
                "INSERT OR REPLACE INTO document VALUES (?,?,?,?,?,?,?,?,?)",
                self._number(entry.origin),
                entry.key,
                entry.wish,
                document.path,
                document.size,
                document.sha256,
                document.modified,
                document.state,
                document.recipe,
            )

    def drop(self, entry: Entry) -> None:
        """The file could not be put: the attachment is not taken after all."""
        number = self._number(entry.origin)
        for table in ("attachment", "document"):
            self.ask(f"DELETE FROM {table} WHERE message=? AND key=? AND wish=?", number, entry.key, entry.wish)

    def _number(self, origin: Origin) -> int:
        """The number of a message, given before it counts as met."""
        key = (origin.source, origin.folder, origin.place, origin.stamp)
        if key not in self._numbers:
            where = "source=? AND folder=? AND place=? AND stamp=?"
            row = self.ask(f"SELECT number FROM message WHERE {where}", *key).fetchone() or self._moved(origin)
            if row is None:
                values = (origin.id, origin.date, origin.sender, origin.subject, origin.sha256)
                columns = "source, folder, place, stamp, id, date, sender, subject, sha256"
                made = self.ask(f"INSERT INTO message ({columns}) VALUES (?,?,?,?,?,?,?,?,?)", *key, *values)
                row = (made.lastrowid,)
            self._numbers[key] = int(row[0] or 0)
            self.ask("INSERT OR IGNORE INTO met_now VALUES (?)", row[0])
        return self._numbers[key]

    def _moved(self, origin: Origin) -> tuple[int] | None:
        """A message with the same bytes that this run has not met: it lies at another place now, where the mailbox was
        compacted, or copied. It keeps its files."""
        row = self.ask(
            "SELECT number FROM message WHERE sha256=? AND folder=? AND sha256<>'' AND number NOT IN met_now "
            "ORDER BY number LIMIT 1",
            origin.sha256,
            origin.folder,
        ).fetchone()
        if row is not None:
            self.ask(
                "UPDATE message SET source=?, place=?, stamp=?, id=? WHERE number=?",
                *(origin.source, origin.place, origin.stamp, origin.id, row[0]),
            )
        return row

    def meet(self, origins: Iterable[Origin], recipes: Sequence[str] | None = None) -> None:
        """These messages are done: all their attachments are on the disk, by these `recipes` (else all). What was said
        so far becomes lasting."""
        for origin in origins:
            for recipe in filter(None, self._recipes if recipes is None else recipes):
                self.ask("INSERT OR IGNORE INTO met VALUES (?,?)", self._number(origin), recipe)
        self._numbers.clear()
        self.commit()

    def commit(self) -> None:
        """Make everything said so far lasting."""
        self._base.commit()
