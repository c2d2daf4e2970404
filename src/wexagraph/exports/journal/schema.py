"""The database of a journal: its tables, its versions, and how it is opened."""

from __future__ import annotations

import csv
import sqlite3
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.exports.journal.records import packed
from wexagraph.tables.csvs import read_cell

_VERSION = 4
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
CREATE TEMP TABLE fresh (
    message INTEGER PRIMARY KEY, key TEXT NOT NULL, stem TEXT NOT NULL, date TEXT NOT NULL
);
"""
_TEMPORARY = _SCHEMA[_SCHEMA.index("CREATE TEMP TABLE") :]


def open_to_read(path: Path) -> sqlite3.Connection:
    """The database as it lies there. Raises sqlite3.Error; TargetError where it is of another version."""
    # not opened read-only: what a killed run has left half done is rolled back first
    base = sqlite3.connect(f"{path.absolute().as_uri()}?mode=rw", 30, uri=True, isolation_level=None)
    base.execute("PRAGMA query_only = 1")
    if base.execute("PRAGMA user_version").fetchone()[0] != _VERSION:
        base.close()
        raise TargetError(f"{path} is of another version. The export command brings it up to date.")
    return base


def open_to_write(path: Path) -> tuple[sqlite3.Connection, bool]:
    """The database, made or brought up to this version where need be, and whether it is new; a transaction is open.

    Raises sqlite3.Error, also where it is damaged; TargetError where it is of a later version.
    """
    base = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
    try:
        base.execute("PRAGMA synchronous = NORMAL")
        base.execute("PRAGMA journal_mode = TRUNCATE")
        base.execute("PRAGMA temp_store = FILE")
        base.execute("PRAGMA cache_size = -16000")
        version = base.execute("PRAGMA user_version").fetchone()[0]
        if version and base.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("it is damaged")
        if version == 0:
            # in one step: a run killed in between must not leave half a schema
            base.executescript(f"BEGIN; {_SCHEMA} PRAGMA user_version = {_VERSION}; COMMIT;")
        elif version > _VERSION:
            raise TargetError(f"{path} is from a newer Wexagraph. Use that one, or another folder.")
        else:
            _bring_up(base, version)
            base.executescript(_TEMPORARY)
    except BaseException:
        base.close()
        raise
    base.execute("BEGIN")
    return base, version == 0


def _bring_up(base: sqlite3.Connection, version: int) -> None:
    """Bring the journal of an earlier version up to this one, in one step."""
    base.execute("BEGIN")
    if version < 2:
        base.execute("ALTER TABLE message ADD COLUMN tags TEXT NOT NULL DEFAULT ''")
    if version < 3:  # texts were kept as cells of a table, escaped for a spreadsheet
        base.create_function("plain", 1, lambda cells: packed(map(read_cell, next(csv.reader([cells]), [""]))))
        base.execute("UPDATE message SET facts=plain(facts), attachments=plain(attachments)")
    if version < 4:
        base.execute("ALTER TABLE message ADD COLUMN turn INTEGER NOT NULL DEFAULT 0")
        for statement in _SCHEMA.split(";"):
            if any(f"TABLE {name} " in statement for name in ("held", "thread_of", "made_with")):
                base.execute(statement)
    base.execute(f"PRAGMA user_version = {_VERSION}")
    base.execute("COMMIT")
