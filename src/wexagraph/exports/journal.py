"""The journal: the machine's own record of what an export has done, so that a run can be repeated or resumed.

SQLite in the export folder. Everything in it can be made again from the folder and the source.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from wexagraph.errors import TargetError
from wexagraph.messages import Header
from wexagraph.notes import Note
from wexagraph.sources import Envelope

_VERSION = 1
_SCHEMA = """
CREATE TABLE message (
    number INTEGER PRIMARY KEY,
    source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL, id TEXT NOT NULL,
    size INTEGER NOT NULL, digest TEXT, arrival TEXT, facts TEXT NOT NULL DEFAULT '{}',
    outcome TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '', run INTEGER NOT NULL
);
CREATE INDEX message_place ON message (source, folder, place);
CREATE INDEX message_digest ON message (folder, digest);
CREATE INDEX message_run ON message (run, folder, place);
CREATE TABLE name (
    key TEXT PRIMARY KEY, message INTEGER NOT NULL, naming TEXT NOT NULL, stem TEXT NOT NULL
) WITHOUT ROWID;
CREATE UNIQUE INDEX name_message ON name (message, naming);
CREATE TABLE file (
    path TEXT PRIMARY KEY, message INTEGER, format TEXT NOT NULL, naming TEXT NOT NULL, recipe TEXT NOT NULL,
    size INTEGER NOT NULL, modified INTEGER NOT NULL, sha256 TEXT NOT NULL, notes TEXT NOT NULL DEFAULT '[]'
) WITHOUT ROWID;
CREATE INDEX file_message ON file (message);
CREATE TEMP TABLE fresh (
    message INTEGER PRIMARY KEY, key TEXT NOT NULL, stem TEXT NOT NULL, date TEXT NOT NULL
);
"""
_TEMPORARY = _SCHEMA[_SCHEMA.index("CREATE TEMP TABLE") :]


@dataclass(slots=True)
class Row:
    """A message as the journal knows it. `digest` is the SHA-256 of its bytes in hexadecimal, once they were read."""

    number: int
    folder: str
    place: str
    stamp: str
    id: str
    size: int
    digest: str | None
    arrival: str | None = None
    facts: dict[str, Any] = field(default_factory=dict)
    stem: str = ""

    def envelope(self) -> Envelope:
        """The message as its source's `read` takes it."""
        return Envelope(self.folder, self.place, self.size, Header(b""), self.stamp)


@dataclass(frozen=True, slots=True)
class FileRow:
    """A file that an export made. `recipe` says what it was made with; `modified` is its time in nanoseconds."""

    path: str
    message: int | None
    format: str
    naming: str
    recipe: str
    size: int
    modified: int
    sha256: str
    notes: tuple[Note, ...] = ()


class Journal:
    """The journal of one export folder. All methods raise TargetError where the disk fails."""

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            self._base = self._open()
        except sqlite3.DatabaseError:
            # damaged: set aside, not lost; what the folder holds is found again by its digests
            path.replace(path.with_suffix(".damaged"))
            self._base = self._open()
        self.run = (self._base.execute("SELECT max(run) FROM message").fetchone()[0] or 0) + 1

    def _open(self) -> sqlite3.Connection:
        base = sqlite3.connect(self._path, isolation_level=None, check_same_thread=False)
        try:
            base.execute("PRAGMA synchronous = NORMAL")
            base.execute("PRAGMA journal_mode = TRUNCATE")
            base.execute("PRAGMA temp_store = FILE")
            base.execute("PRAGMA cache_size = -16000")
            version = base.execute("PRAGMA user_version").fetchone()[0]
            if version == 0:
                base.executescript(_SCHEMA)
                base.execute(f"PRAGMA user_version = {_VERSION}")
            elif version != _VERSION:
                raise TargetError(f"{self._path} is from a newer Wexagraph. Use that one, or another folder.")
            else:
                base.executescript(_TEMPORARY)
        except BaseException:
            base.close()
            raise
        base.execute("BEGIN")
        return base

    def close(self) -> None:
        with suppress(sqlite3.Error):
            self._base.rollback()
        self._base.close()

    def commit(self) -> None:
        """Make everything said so far lasting."""
        try:
            self._base.execute("COMMIT")
            self._base.execute("BEGIN")
        except sqlite3.Error as error:
            raise self._failed(error) from error

    def _failed(self, error: sqlite3.Error) -> TargetError:
        return TargetError(
            f"the journal {self._path} can't be written: {error}. "
            "Free some space on the disk and run the same command again."
        )

    def _do(self, sql: str, values: tuple[Any, ...] = ()) -> sqlite3.Cursor:
        try:
            return self._base.execute(sql, values)
        except sqlite3.OperationalError as error:
            raise self._failed(error) from error

    # messages

    def known(self, source: str, folder: str, place: str, stamp: str) -> int | None:
        """The message at this place, if what lies there is what lay there before."""
        found = self._do(
            "SELECT number FROM message WHERE source=? AND folder=? AND place=? AND stamp=?",
            (source, folder, place, stamp),
        ).fetchone()
        return found[0] if found else None

    def has_digests(self, folder: str) -> bool:
        """Whether messages of this folder have been read in an earlier run."""
        found = self._do(
            "SELECT 1 FROM message WHERE folder=? AND digest IS NOT NULL AND run<>? LIMIT 1",
            (folder, self.run),
        )
        return found.fetchone() is not None

    def moved(self, folder: str, digest: str) -> int | None:
        """A message with these bytes that this run has not met yet: the same one, now at another place."""
        found = self._do(
            "SELECT number FROM message WHERE folder=? AND digest=? AND run<>? ORDER BY number LIMIT 1",
            (folder, digest, self.run),
        ).fetchone()
        return found[0] if found else None

    def meet(self, number: int, source: str, envelope: Envelope) -> None:
        """This run chose the message; it lies here now."""
        self._do(
            "UPDATE message SET run=?, source=?, place=?, stamp=?, id=? WHERE number=?",
            (self.run, source, envelope.place, envelope.fingerprint(), envelope.id, number),
        )

    def add(self, source: str, envelope: Envelope, digest: str | None, arrival: datetime | None) -> int:
        """A message that no run has met before. Returns its number."""
        e = envelope
        cursor = self._do(
            "INSERT INTO message (source, folder, place, stamp, id, size, digest, arrival, run) "
            "VALUES (?,?,?,?,?,?,?,?,?)",
            (
                source,
                e.folder,
                e.place,
                e.stamp,
                e.id,
                e.size,
                digest,
                arrival and arrival.isoformat(),
                self.run,
            ),
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def forget_unread(self) -> None:
        """Drop what an earlier run had planned and never read, and this one has not met: its names are free again."""
        stale = "SELECT number FROM message WHERE digest IS NULL AND run<>?"
        self._do(f"DELETE FROM name WHERE message IN ({stale})", (self.run,))
        self._do("DELETE FROM message WHERE digest IS NULL AND run<>?", (self.run,))

    def set_digest(self, number: int, digest: str) -> None:
        self._do("UPDATE message SET digest=? WHERE number=?", (digest, number))

    def set_facts(self, number: int, digest: str, size: int, facts: dict[str, Any]) -> None:
        packed = json.dumps(facts, ensure_ascii=False)
        self._do("UPDATE message SET digest=?, size=?, facts=? WHERE number=?", (digest, size, packed, number))

    def set_outcome(self, number: int, outcome: str, reason: str = "") -> None:
        """`outcome` is "written" or "failed"."""
        self._do("UPDATE message SET outcome=?, reason=? WHERE number=?", (outcome, reason, number))

    def chosen(self, naming: str, after: tuple[str, str, int] = ("", "", 0), most: int = 500) -> list[Row]:
        """The messages of this run in the order of work, `most` at a time, with the names they have in `naming`."""
        cursor = self._do(
            "SELECT m.number, m.folder, m.place, m.stamp, m.id, m.size, m.digest, m.arrival, m.facts, n.stem "
            "FROM message m JOIN name n ON n.message=m.number AND n.naming=? "
            "WHERE m.run=? AND (m.folder, m.place, m.number) > (?,?,?) ORDER BY m.folder, m.place, m.number LIMIT ?",
            (naming, self.run, *after, most),
        )
        return [Row(*found[:-2], json.loads(found[-2]), found[-1]) for found in cursor]  # type: ignore[call-arg]

    def chosen_by_folder(self, naming: str) -> Iterator[Row]:
        """All messages of this run, in the order of work."""
        after = ("", "", 0)
        while rows := self.chosen(naming, after):
            yield from rows
            after = (rows[-1].folder, rows[-1].place, rows[-1].number)

    def rows(self, numbers: Iterable[int]) -> Iterator[Row]:
        """Messages by their numbers, in the order of work."""
        for number in sorted(numbers):
            found = self._do(
                "SELECT number, folder, place, stamp, id, size, digest FROM message WHERE number=?", (number,)
            ).fetchone()
            yield Row(*found)

    def count_chosen(self) -> int:
        return int(self._do("SELECT count(*) FROM message WHERE run=?", (self.run,)).fetchone()[0])

    # names

    def has_name(self, number: int, naming: str) -> bool:
        return self._do("SELECT 1 FROM name WHERE message=? AND naming=?", (number, naming)).fetchone() is not None

    def wish(self, number: int, key: str, stem: str, date: str) -> None:
        """The name that a message would like; `key` is equal for names that collide."""
        self._do("INSERT OR REPLACE INTO fresh VALUES (?,?,?,?)", (number, key, stem, date))

    def rivals(self) -> list[int]:
        """Messages whose wished names collide with each other's."""
        shared = "SELECT key FROM fresh GROUP BY key HAVING count(*) > 1"
        return [row[0] for row in self._do(f"SELECT message FROM fresh WHERE key IN ({shared})")]

    def wishes(self) -> Iterator[tuple[int, str, str]]:
        """All wishes (message, key, stem): first those that come first under their key, then the others.

        Under one key, order goes by date, then by the digest of the bytes, then by place: never by time of reading.
        """
        order = "f.key, f.date, coalesce(m.digest, ''), m.folder, m.place"
        numbered = (
            f"SELECT f.message, f.key, f.stem, row_number() OVER (PARTITION BY f.key ORDER BY {order}) AS turn "
            "FROM fresh f JOIN message m ON m.number=f.message"
        )
        return iter(self._do(f"SELECT message, key, stem FROM ({numbered}) ORDER BY turn > 1, key, turn"))

    def wished(self, key: str) -> bool:
        return self._do("SELECT 1 FROM fresh WHERE key=?", (key,)).fetchone() is not None

    def index_wishes(self) -> None:
        self._do("CREATE INDEX IF NOT EXISTS temp.fresh_by_key ON fresh (key)")

    def clear_wishes(self) -> None:
        self._do("DELETE FROM fresh")

    def name_taken(self, key: str) -> bool:
        return self._do("SELECT 1 FROM name WHERE key=?", (key,)).fetchone() is not None

    def give_name(self, number: int, naming: str, key: str, stem: str) -> None:
        self._do("INSERT INTO name (key, message, naming, stem) VALUES (?,?,?,?)", (key, number, naming, stem))

    # files

    def files_of(self, number: int) -> list[FileRow]:
        return [_file(row) for row in self._do("SELECT * FROM file WHERE message=? ORDER BY path", (number,))]

    def file_at(self, path: str) -> FileRow | None:
        found = self._do("SELECT * FROM file WHERE path=?", (path,)).fetchone()
        return _file(found) if found else None

    def record(self, file: FileRow) -> None:
        """This file is on the disk, whole."""
        notes = json.dumps([[note.code, note.detail] for note in file.notes], ensure_ascii=False)
        self._do(
            "INSERT OR REPLACE INTO file VALUES (?,?,?,?,?,?,?,?,?)",
            (
                file.path,
                file.message,
                file.format,
                file.naming,
                file.recipe,
                file.size,
                file.modified,
                file.sha256,
                notes,
            ),
        )

    def digests(self, folder: str, naming: str) -> list[str] | None:
        """The digests of a folder's messages in this run, in the order of work; None where one was never read."""
        found = [row[0] for row in self._do(
            "SELECT m.digest FROM message m JOIN name n ON n.message=m.number AND n.naming=? "
            "WHERE m.run=? AND m.folder=? ORDER BY m.place, m.number", (naming, self.run, folder))]  # fmt: skip
        return None if None in found else found

    def archive(self, folder: str, format: str, naming: str) -> FileRow | None:
        """The archive of a folder that an earlier run has made."""
        found = self._do(
            "SELECT * FROM file WHERE message IS NULL AND format=? AND naming=?",
            (f"{format}:{folder}", naming),
        ).fetchone()
        return _file(found) if found else None

    def listing(self, name: str) -> FileRow | None:
        """The register or the manifest as the last run left it."""
        found = self._do("SELECT * FROM file WHERE message IS NULL AND format=?", (f"list:{name}",)).fetchone()
        return _file(found) if found else None

    def files(self) -> Iterator[tuple[str, str]]:
        """Path and SHA-256 of all files but the manifest, which can't hold itself, sorted by path."""
        unlisted = "list:manifest-sha256.txt"
        return iter(self._do("SELECT path, sha256 FROM file WHERE format<>? ORDER BY path", (unlisted,)))

    def register(self) -> Iterable[tuple[Any, ...]]:
        """A row a message, in the order of folders and places: id, folder, facts, size, digest, outcome, reason,
        paths and notes as JSON lists."""
        return self._do(
            "SELECT m.id, m.folder, m.facts, m.size, m.digest, m.outcome, m.reason, "
            "(SELECT json_group_array(path) FROM (SELECT path FROM file WHERE message=m.number ORDER BY path)), "
            "(SELECT json_group_array(json(notes)) FROM (SELECT notes FROM file WHERE message=m.number ORDER BY path)) "
            "FROM message m WHERE m.outcome<>'' ORDER BY m.folder, m.place, m.digest, m.number"
        )


def _file(row: tuple[Any, ...]) -> FileRow:
    notes = tuple(Note(code, detail) for code, detail in json.loads(row[-1]))
    return FileRow(*row[:-1], notes)  # type: ignore[call-arg]
