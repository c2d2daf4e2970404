"""What is filed where: an index of messages by IDs and digests, made again from the originals in the folders."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from wexagraph.messages.conversations import Thread
from wexagraph.output.databases import Form, open_database

_SCHEMA = """
CREATE TABLE letter (
    reference TEXT, digest TEXT, own INTEGER, PRIMARY KEY (reference, digest)
) WITHOUT ROWID;
CREATE TABLE known (reference TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE INDEX letter_own ON letter (own);
CREATE TABLE answered (id INTEGER, reference TEXT, PRIMARY KEY (id, reference)) WITHOUT ROWID;
"""
_INDEX = Form("the index of what is filed", _SCHEMA)


class Filed:
    """The index of a records folder. All methods raise TargetError where the disk fails."""

    def __init__(self, records: Path) -> None:
        self._base = open_database(records, "filed.sqlite", _INDEX)

    def close(self) -> None:
        """Close the index."""
        self._base.close()

    def cases_of(self, id: int) -> list[str]:
        """The cases that have a message of this ID, or one that answers it."""
        query = "SELECT reference FROM letter WHERE own=? UNION SELECT reference FROM answered WHERE id=?"
        return [row[0] for row in self._base.ask(query, (id, id))]

    def knows(self, reference: str) -> bool:
        """Whether it was told of a case."""
        return self._base.ask("SELECT 1 FROM known WHERE reference=?", (reference,)).fetchone() is not None

    def add(self, filed: Mapping[str, Mapping[str, Thread]]) -> None:
        """Messages that lie in cases, by reference and digest."""
        letters = [(name, digest, one.own or None) for name, many in filed.items() for digest, one in many.items()]
        answered = [(id, name) for name, many in filed.items() for one in many.values() for id in one.refers]
        with self._base.change():
            self._base.ask_many("INSERT OR IGNORE INTO known VALUES (?)", ((name,) for name in filed))
            self._base.ask_many("INSERT OR IGNORE INTO letter VALUES (?,?,?)", letters)
            self._base.ask_many("INSERT OR IGNORE INTO answered VALUES (?,?)", answered)
