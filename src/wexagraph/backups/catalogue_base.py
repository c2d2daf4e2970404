"""The database of a catalogue: its tables, its versions, and how it is opened."""

from __future__ import annotations

import sqlite3
from functools import lru_cache
from pathlib import Path

from wexagraph.files import create_private, open_regular

_VERSION = 4
FOREVER = 1 << 40
_SCHEMA = f"""
CREATE TABLE file (path TEXT PRIMARY KEY, sha256 TEXT NOT NULL, size INTEGER NOT NULL, copy BLOB) WITHOUT ROWID;
CREATE TABLE run (
    number INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, source TEXT NOT NULL, added INTEGER NOT NULL,
    gone INTEGER NOT NULL, changed INTEGER NOT NULL, failed INTEGER NOT NULL, bytes INTEGER NOT NULL,
    state TEXT NOT NULL
);
CREATE TABLE folder (
    number INTEGER PRIMARY KEY, source TEXT NOT NULL, name TEXT NOT NULL, stamp TEXT NOT NULL, run TEXT NOT NULL,
    UNIQUE (source, name)
);
CREATE TABLE message (
    number INTEGER PRIMARY KEY, digest BLOB NOT NULL UNIQUE, volume INTEGER NOT NULL, member TEXT NOT NULL,
    offset INTEGER NOT NULL, packed INTEGER NOT NULL, size INTEGER NOT NULL, header BLOB NOT NULL, leaves TEXT NOT NULL
);
CREATE TABLE holding (
    folder INTEGER NOT NULL, place TEXT NOT NULL, message INTEGER NOT NULL, stamp TEXT NOT NULL, flags TEXT NOT NULL,
    arrived TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL,
    PRIMARY KEY (folder, place, first)
) WITHOUT ROWID;
CREATE INDEX holding_message ON holding (message);
CREATE INDEX holding_ended ON holding (message) WHERE last < {FOREVER};
CREATE VIRTUAL TABLE words USING fts5(
    subject, people, body, names, content='', tokenize="unicode61 remove_diacritics 2 tokenchars '_'", detail=full
);
INSERT INTO words (words, rank) VALUES ('hashsize', 33554432);
"""
_SINCE = {
    # size and time of a volume when it was last known to be whole
    2: ("CREATE TABLE whole (path TEXT PRIMARY KEY, size INTEGER NOT NULL, modified INTEGER NOT NULL) WITHOUT ROWID;",),
    # words of scans by the SHA-256 of their bytes, and the words that a message has got from its own
    3: (
        "CREATE TABLE recognised (digest BLOB NOT NULL, languages TEXT NOT NULL, words TEXT NOT NULL, "
        "PRIMARY KEY (digest, languages)) WITHOUT ROWID;",
        "CREATE TABLE scanned (message INTEGER PRIMARY KEY, languages TEXT NOT NULL, words TEXT NOT NULL);",
    ),
    # when a run was, where its name had to be later than that
    4: ("CREATE TABLE moment (run TEXT PRIMARY KEY, moment TEXT NOT NULL) WITHOUT ROWID;",),
}
"""What came with which version."""


def open_base(path: Path, writing: bool) -> sqlite3.Connection:
    """The database to be read, or for writing with a transaction begun. Raises sqlite3.Error, OSError.

    What an earlier version lacks is added in that transaction: it is lasting with the first change, and until then the
    sums of the backup prove the catalogue as it lay there.
    """
    _refuse_strange_file(path, writing)
    if writing:
        base = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
    else:
        # immutable: a stick that can't be written to is read all the same, and nothing is left beside the file
        address = f"{path.absolute().as_uri()}?mode=ro&immutable=1"
        base = sqlite3.connect(address, uri=True, isolation_level=None, check_same_thread=False)
    try:
        version = base.execute("PRAGMA user_version").fetchone()[0]
        if writing:
            base.execute("PRAGMA journal_mode = DELETE")
            base.execute("PRAGMA synchronous = NORMAL")
            base.execute("PRAGMA cache_size = -64000")
        if version == 0 and writing:
            base.executescript(f"BEGIN; {_tables(_VERSION)} PRAGMA user_version = {_VERSION}; COMMIT;")
            version = _VERSION
        elif not 1 <= version <= _VERSION or _schema(base) != _expected(version):
            # views and triggers, too: a catalogue from elsewhere must not run anything of its own
            raise sqlite3.DatabaseError("another form of catalogue")
        base.execute("PRAGMA temp_store = MEMORY")
        if writing:
            base.execute("BEGIN IMMEDIATE")
            for later in range(version + 1, _VERSION + 1):
                for statement in _SINCE[later]:
                    base.execute(statement)
                base.execute(f"PRAGMA user_version = {later}")
    except BaseException:
        base.close()
        raise
    return base


def _tables(version: int) -> str:
    """The statements that make a catalogue of a version."""
    return _SCHEMA + " ".join(each for later in range(2, version + 1) for each in _SINCE[later])


def _refuse_strange_file(path: Path, writing: bool) -> None:
    """A link or a pipe is no catalogue of ours; a new one is for its owner only. Raises OSError."""
    try:
        open_regular(path).close()
    except FileNotFoundError:
        if writing:
            create_private(path).close()


def _schema(base: sqlite3.Connection) -> set[tuple[str, str, str]]:
    """What a database consists of. What the full text index makes for itself differs with the version of SQLite."""
    rows = base.execute("SELECT type, name, coalesce(sql, '') FROM sqlite_master")
    return {(kind, name, "" if name.startswith("words_") and kind == "table" else sql) for kind, name, sql in rows}


@lru_cache(maxsize=_VERSION)
def _expected(version: int) -> set[tuple[str, str, str]]:
    base = sqlite3.connect(":memory:")
    try:
        base.executescript(_tables(version))
        return _schema(base)
    finally:
        base.close()
