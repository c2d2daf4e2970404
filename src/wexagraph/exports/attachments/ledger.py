"""The machine's own record of attachments that were taken out: which, from which message, to which file."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wexagraph.errors import TargetError
from wexagraph.exports.verify import manifest_entries
from wexagraph.naming import collision_key, with_extension
from wexagraph.naming.paths import MANIFEST, REGISTER, RESERVED
from wexagraph.notes import CODES
from wexagraph.output.target import Target
from wexagraph.sources import Envelope
from wexagraph.tables.csvs import csv_row

COLUMNS = (
    "id",
    "folder",
    "date",
    "from",
    "subject",
    "attachment",
    "type",
    "size",
    "sha256",
    "file",
    "message_sha256",
    "notes",
    "pdf",
    "pdf_sha256",
    "pdf_state",
)
_SCHEMA = """
BEGIN;
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
CREATE TABLE IF NOT EXISTS name (key TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS list (name TEXT PRIMARY KEY, path TEXT NOT NULL, sha256 TEXT NOT NULL);
COMMIT;
"""


@dataclass(slots=True)
class Origin:
    """The message that attachments are from. `sha256` is of its bytes."""

    folder: str
    place: str
    stamp: str
    id: str
    date: str
    sender: str
    subject: str
    sha256: str = ""
    source: str = ""

    def fingerprint(self) -> str:
        return self.stamp


@dataclass(slots=True)
class Document:
    """The PDF of an attachment, or the bound one that it is in: its path ("" where none could be made), and in words
    what happened to the attachment. `recipe` says how it was made."""

    state: str
    path: str = ""
    size: int = 0
    sha256: str = ""
    modified: int = 0
    recipe: str = ""


@dataclass(slots=True)
class Entry:
    """An attachment: the part of its message that it is, the path it would like, its name as it came, its file (no
    path where only a PDF was made of it), and its PDF."""

    origin: Origin
    key: str
    wish: str
    name: str
    type: str
    size: int
    sha256: str
    path: str = ""
    modified: int = 0
    note: str = ""
    recipe: str = ""
    document: Document | None = None


class Ledger:
    """SQLite in the target's own folder. All methods raise TargetError where the disk fails."""

    def __init__(self, path: Path, recipes: Sequence[str]) -> None:
        """`recipes` are those of the attachments themselves and of their PDFs; "" for what is not asked for."""
        self._path, self._recipes = path, tuple(recipes)
        self.is_new = False
        try:
            try:
                self._base = self._open()
            except sqlite3.DatabaseError:
                path.replace(path.with_suffix(".damaged"))  # set aside; files that are there are known by their bytes
                self._base = self._open()
        except (sqlite3.Error, OSError) as error:
            raise TargetError(
                f"{path} can't be used: {error}. Move it away, and run the same command again."
            ) from error
        self._numbers: dict[tuple[str, str, str, str], int] = {}

    def _open(self) -> sqlite3.Connection:
        base = sqlite3.connect(self._path, isolation_level=None)
        try:
            self.is_new = base.execute("SELECT 1 FROM sqlite_master").fetchone() is None
            if base.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
                raise sqlite3.DatabaseError("it is damaged")
            base.executescript(_SCHEMA)
            base.execute("BEGIN")
        except BaseException:
            base.close()
            raise
        return base

    def recover_lists(self, target: Target) -> None:
        """Know the lists of an earlier run again, whose record was lost: the manifest proves the register."""
        digest, listed = target.sha256(REGISTER), {}
        try:
            with target.root.reader(MANIFEST) as file:
                listed = {path: sha256 for sha256, path in manifest_entries(file)}
        except OSError:
            return
        if digest and listed.get(REGISTER) == digest:
            for name in (REGISTER, MANIFEST):
                self._do("INSERT OR REPLACE INTO list VALUES (?,?,?)", name, name, target.sha256(name) or "")

    def close(self) -> None:
        self._base.rollback()
        self._base.close()

    def _do(self, sql: str, *values: Any) -> sqlite3.Cursor:
        try:
            return self._base.execute(sql, values)
        except sqlite3.Error as error:
            raise TargetError(f"{self._path} can't be written: {error}. Free some space, and run it again.") from error

    def known(self, source: str, where: Envelope | Origin) -> list[Entry] | None:
        """What a run with these options has taken from this message; None where none has met it."""
        where_values = (source, where.folder, where.place, where.fingerprint())
        for recipe in filter(None, self._recipes):
            row = self._do(
                "SELECT number FROM message JOIN met ON message=number "
                "WHERE source=? AND folder=? AND place=? AND stamp=? AND recipe=?",
                *where_values,
                recipe,
            ).fetchone()
            if row is None:
                return None
        origin = Origin(where.folder, where.place, where.fingerprint(), "", "", "", "")
        native, paged = self._recipes
        return [
            entry
            for entry in self._entries(origin, row[0])
            if (native and entry.recipe == native) or (paged and entry.document and entry.document.recipe == paged)
        ]

    def digest(self, source: str, where: Envelope) -> str:
        """The SHA-256 of a message that was met, in hexadecimal."""
        row = self._do(
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
        rows = self._do(
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
        row = self._do(
            "SELECT d.state, d.path, d.size, d.sha256, d.modified, d.recipe FROM document d "
            "JOIN attachment a USING (message, key, wish) WHERE a.sha256=? AND d.recipe=? "
            "ORDER BY message, key LIMIT 1",
            sha256,
            self._recipes[1],
        ).fetchone()
        return Document(*row) if row else None

    def path_of(self, sha256: str) -> str | None:
        """The file in which these bytes are already."""
        row = self._do(
            "SELECT path FROM attachment WHERE sha256=? AND path<>'' ORDER BY message, key LIMIT 1", sha256
        ).fetchone()
        return str(row[0]) if row else None

    def free(self, path: str, sha256: str, target: Target) -> tuple[str, bool]:
        """The first path of this name that collides with none; it is taken from now on. Also whether these very bytes
        lie there already."""
        folder, slash, name = path.rpartition("/")
        stem, suffix = with_extension(name)
        candidate, turn = path, 1
        while True:
            if self._do("SELECT 1 FROM name WHERE key=?", collision_key(candidate)).fetchone() is None:
                taken = target.taken(candidate)
                there = taken and candidate.lower() not in RESERVED and target.sha256(candidate) == sha256
                if there or not taken:
                    self._do("INSERT INTO name VALUES (?)", collision_key(candidate))
                    return candidate, there
            turn += 1
            candidate = f"{folder}{slash}{stem} ({turn}){suffix}"

    def add(self, entry: Entry) -> None:
        self._do(
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
            self._do(
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
            self._do(f"DELETE FROM {table} WHERE message=? AND key=? AND wish=?", number, entry.key, entry.wish)

    def _number(self, origin: Origin) -> int:
        """The number of a message, given before it counts as met."""
        key = (origin.source, origin.folder, origin.place, origin.stamp)
        if key not in self._numbers:
            where = "source=? AND folder=? AND place=? AND stamp=?"
            row = self._do(f"SELECT number FROM message WHERE {where}", *key).fetchone()
            if row is None:
                values = (origin.id, origin.date, origin.sender, origin.subject, origin.sha256)
                columns = "source, folder, place, stamp, id, date, sender, subject, sha256"
                made = self._do(f"INSERT INTO message ({columns}) VALUES (?,?,?,?,?,?,?,?,?)", *key, *values)
                row = (made.lastrowid,)
            self._numbers[key] = int(row[0] or 0)
        return self._numbers[key]

    def meet(self, origins: Iterable[Origin], recipes: Sequence[str] | None = None) -> None:
        """These messages are done: all their attachments are on the disk, by these `recipes` (else all). What was said
        so far becomes lasting."""
        for origin in origins:
            for recipe in filter(None, self._recipes if recipes is None else recipes):
                self._do("INSERT OR IGNORE INTO met VALUES (?,?)", self._number(origin), recipe)
        self._numbers.clear()
        self._do("COMMIT")
        self._do("BEGIN")

    def write_lists(self, target: Target) -> None:
        """Write the register and the checksums anew. One that somebody has changed is kept beside the new one."""
        self._write(target, REGISTER, self._register())
        digest = self._do("SELECT sha256, path FROM list WHERE name=?", REGISTER).fetchone()
        paths = self._do(
            "SELECT sha256, path FROM attachment WHERE path<>'' UNION "
            "SELECT sha256, path FROM document WHERE path<>'' ORDER BY path"
        )
        self._write(target, MANIFEST, (f"{sha256}  {path}\n" for sha256, path in [*paths, digest]))
        target.settle()

    def _write(self, target: Target, name: str, lines: Iterable[str]) -> None:
        old = self._do("SELECT path, sha256 FROM list WHERE name=?", name).fetchone()
        path = str(old[0]) if old else target.free_path(name)
        staging = target.open_staging()
        with staging.failing():
            for line in lines:
                staging.file.write(line.encode("utf-8", "surrogateescape"))
        staged = target.put_list(staging, path, (old[1],) if old else ())
        self._do("INSERT OR REPLACE INTO list VALUES (?,?,?)", name, path, staged.sha256)
        target.put_staged_list(staged)
        self._do("COMMIT")
        self._do("BEGIN")

    def _register(self) -> Iterator[str]:
        yield "\ufeff" + csv_row(COLUMNS)
        rows = self._do(
            "SELECT m.id, m.folder, m.date, m.sender, m.subject, a.name, a.type, a.size, a.sha256, a.path, m.sha256, "
            "a.note, coalesce(d.path, ''), coalesce(d.sha256, ''), coalesce(d.state, '') "
            "FROM attachment a JOIN message m ON m.number=a.message LEFT JOIN document d USING (message, key, wish) "
            "ORDER BY m.folder, m.place, m.number, a.key"
        )
        for row in rows:
            yield csv_row([*row[:11], CODES.get(row[11], ""), *row[12:]])
