"""The database of a journal: its tables and its versions."""

from __future__ import annotations

import csv
import sqlite3

from wexagraph.exports.journal.records import packed
from wexagraph.output.databases import Form
from wexagraph.tables.csvs import read_cell

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
CREATE TABLE met (message INTEGER NOT NULL, recipe TEXT NOT NULL, PRIMARY KEY (message, recipe)) WITHOUT ROWID;
CREATE TABLE given (key TEXT PRIMARY KEY) WITHOUT ROWID;
"""
_TEMPORARY = """
CREATE TEMP TABLE fresh (
    message INTEGER PRIMARY KEY, key TEXT NOT NULL, stem TEXT NOT NULL, date TEXT NOT NULL
);
"""


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


def _make(base: sqlite3.Connection, *tables: str) -> None:
    for statement in _SCHEMA.split(";"):
        if any(f"TABLE {name} (" in statement or f" ON {name} (" in statement for name in tables):
            base.execute(statement)


JOURNAL = Form(
    "the journal",
    _SCHEMA,
    version=5,
    since={2: _with_tags, 3: _with_plain_texts, 4: _with_turns, 5: _with_attachments},
    settings=("synchronous = NORMAL", "journal_mode = TRUNCATE", "temp_store = FILE", "cache_size = -16000"),
    temporary=_TEMPORARY,
)
