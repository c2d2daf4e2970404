"""The journal: the machine's own record of what an export has done, so that a run can be repeated or resumed.

SQLite in the export folder. Everything in it can be made again from the folder and the source.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

from wexagraph.exports.journal.files import Files
from wexagraph.exports.journal.records import (
    JOURNAL,
    FileRecord,
    MessageRecord,
    PlannedMessage,
    unpacked,
    unpacked_notes,
)
from wexagraph.naming.paths import RESERVED_STEMS, collision_key
from wexagraph.notes import Note
from wexagraph.output.databases import ASIDE, SAID, Database

_NUMBER = re.compile(r" \((\d{1,9})\)")


class Journal(Database):
    """The journal of one export folder: its messages, and beside them their names and files."""

    def __init__(self, path: Path, reading: bool = False) -> None:
        # damaged, it is set aside: register and manifest tell what is needed of it
        super().__init__(path, JOURNAL, ASIDE if not reading else SAID, together=True, reading=reading)
        self.names, self.files, self.numbers = Names(self), Files(self), Numbers(self)
        self._indexed = False
        self._next = (self.ask("SELECT max(number) FROM message").fetchone()[0] or 0) + 1
        self.run = (self.ask("SELECT max(run) FROM message").fetchone()[0] or 0) + 1

    def known(self, source: str, folder: str, place: str, stamp: str) -> int | None:
        """The message at this place, if what lies there is what lay there before."""
        self._index_for_repetition()
        row = self.ask(
            "SELECT number FROM message WHERE source=? AND folder=? AND place=? AND stamp=?",
            (source, folder, place, stamp),
        ).fetchone()
        return row[0] if row else None

    def _index_for_repetition(self) -> None:
        """What only a second run asks for is indexed by the second run; the first has enough to write."""
        if not self._indexed:
            self.ask("CREATE INDEX IF NOT EXISTS message_place ON message (source, folder, place)")
            self.ask("CREATE INDEX IF NOT EXISTS message_digest ON message (folder, digest)")
            self._indexed = True

    def has_digests(self, folder: str) -> bool:
        """Whether messages of this folder have been read in an earlier run."""
        rows = self.ask(
            "SELECT 1 FROM message WHERE folder=? AND digest IS NOT NULL AND run<>? LIMIT 1",
            (folder, self.run),
        )
        return rows.fetchone() is not None

    def moved(self, folder: str, digest: str) -> int | None:
        """A message with these bytes that this run has not met yet: the same one, now at another place."""
        row = self.ask(
            "SELECT number FROM message WHERE folder=? AND digest=? AND run<>? ORDER BY number LIMIT 1",
            (folder, digest, self.run),
        ).fetchone()
        return row[0] if row else None

    def restamped(self, source: str, folder: str, wish: PlannedMessage) -> bool:
        """Whether this folder bore another stamp in an earlier run, so that its places mean other messages; or nobody
        knows any more what lay where (see `exports/recovery.py`)."""
        validity = wish.fingerprint.partition(";")[0]
        asked = (source, folder, len(validity), validity, folder)
        other = "(source=? AND folder=? AND substr(stamp, 1, ?)<>?) OR (source='' AND folder=?)"
        return self.ask(f"SELECT 1 FROM message WHERE {other} LIMIT 1", asked).fetchone() is not None

    def add_one(self, **columns: Any) -> int:
        """A message by what is known of it, in the columns of the journal. Returns its number."""
        number = self._next
        self._next += 1
        names, places = ", ".join(columns), ", ".join("?" * (len(columns) + 1))
        self.ask(f"INSERT INTO message (number, {names}) VALUES ({places})", (number, *columns.values()))
        return number

    def keep(self, number: int, where: tuple[str, str, str, str] | None = None) -> None:
        """This run met a message of an earlier one, and gives it no name; `where` it lies now: source, place, stamp and
        ID."""
        if where is None:
            self.ask("UPDATE message SET run=? WHERE number=?", (self.run, number))
        else:
            sql = "UPDATE message SET run=?, source=?, place=?, stamp=?, id=? WHERE number=?"
            self.ask(sql, (self.run, *where, number))

    def setting(self, name: str) -> str:
        """What was kept of the folder under a name; "" where nothing was."""
        row = self.ask("SELECT value FROM setting WHERE name=?", (name,)).fetchone()
        return row[0] if row else ""

    def keep_setting(self, name: str, value: str) -> None:
        """Keep something of the folder as a whole."""
        self.ask("INSERT OR REPLACE INTO setting VALUES (?, ?)", (name, value))

    def note_parts(self, parts: str) -> None:
        """Note what this run's pages were made with, in words."""
        self.ask("INSERT OR REPLACE INTO made_with VALUES (?, ?)", (self.run, parts))

    def is_empty(self) -> bool:
        """Whether no run has met a message yet."""
        return self.ask("SELECT 1 FROM message LIMIT 1").fetchone() is None

    def has_exported(self) -> bool:
        """Whether files were to be made of a message, and not of attachments alone."""
        return self.ask("SELECT 1 FROM message WHERE outcome<>'' LIMIT 1").fetchone() is not None

    def meet(self, number: int, source: str, wish: PlannedMessage) -> None:
        """This run chose a message of an earlier one; it lies here now."""
        self.ask(
            "UPDATE message SET run=?, source=?, place=?, stamp=?, id=?, tags=?, arrival=?, facts=?, notes=?, turn=? "
            "WHERE number=?",
            (
                self.run,
                source,
                wish.place,
                wish.fingerprint,
                wish.id,
                wish.tags,
                wish.arrival,
                wish.facts,
                wish.notes,
                wish.turn,
                number,
            ),
        )

    def add_many(self, source: str, folder: str, batch: list[PlannedMessage], digest: str | None = None) -> range:
        """Messages that no run has met before, and the names they wish for. Returns their numbers."""
        first = self._next
        self._next += len(batch)
        self.ask_many(
            "INSERT INTO message (number, source, folder, place, stamp, id, size, digest, arrival, facts, notes, run, "
            "tags, turn) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (
                (
                    n,
                    source,
                    folder,
                    w.place,
                    w.fingerprint,
                    w.id,
                    w.size,
                    digest,
                    w.arrival,
                    w.facts,
                    w.notes,
                    self.run,
                    w.tags,
                    w.turn,
                )
                for n, w in enumerate(batch, first)
            ),
        )
        self.ask_many(
            "INSERT INTO fresh VALUES (?,?,?,?)", ((n, w.key, w.stem, w.date) for n, w in enumerate(batch, first))
        )
        return range(first, self._next)

    def forget_unread(self) -> None:
        """Drop what an earlier run had planned and never read, and this one has not met: its names are free again."""
        stale = "SELECT number FROM message WHERE digest IS NULL AND run<>?"
        self.ask(f"DELETE FROM name WHERE message IN ({stale})", (self.run,))
        self.ask("DELETE FROM message WHERE digest IS NULL AND run<>?", (self.run,))

    def set_digest(self, number: int, digest: str) -> None:
        self.ask("UPDATE message SET digest=? WHERE number=?", (digest, number))

    def set_read(self, copied: Iterable[tuple[str, int, str, int]]) -> None:
        """Messages whose bytes were read: digest, size, names of attachments, number."""
        self.ask_many("UPDATE message SET digest=?, size=?, attachments=? WHERE number=?", copied)

    def set_written(self, numbers: Iterable[int]) -> None:
        self.ask_many("UPDATE message SET outcome='written', reason='' WHERE number=?", ((n,) for n in numbers))

    def unsay(self, folder: str) -> None:
        """The messages of a folder that this run has met were not written after all."""
        self.ask("UPDATE message SET outcome='' WHERE run=? AND folder=? AND outcome='written'", (self.run, folder))

    def set_failed(self, number: int, reason: str) -> None:
        self.ask("UPDATE message SET outcome='failed', reason=? WHERE number=?", (reason, number))

    def chosen(self, naming: str) -> Iterator[tuple[MessageRecord, list[FileRecord]]]:
        """The messages of this run in the order of work, with their names in `naming` and the files they have."""
        after: tuple[str, str, int] = ("", "", 0)
        where = "m.run=? AND (m.folder, m.place, m.number) > (?,?,?) ORDER BY m.folder, m.place, m.number LIMIT 2000"
        while True:
            rows = [
                MessageRecord(*values)
                for values in self.ask(
                    "SELECT m.number, m.folder, m.place, m.stamp, m.id, m.size, m.digest, m.arrival, n.stem, m.tags, "
                    f"m.facts, m.turn FROM message m JOIN name n ON n.message=m.number AND n.naming=? WHERE {where}",
                    (naming, self.run, *after),
                )
            ]
            if not rows:
                return
            files: dict[int | None, list[FileRecord]] = {}
            chunk = f"SELECT m.number FROM message m WHERE {where}"
            for values in self.ask(f"SELECT * FROM file WHERE message IN ({chunk}) ORDER BY path", (self.run, *after)):
                files.setdefault(values[1], []).append(FileRecord.of(values))
            for row in rows:
                yield row, files.get(row.number, [])
            after = (rows[-1].folder, rows[-1].place, rows[-1].number)

    def row(self, number: int) -> MessageRecord:
        """A message by its number."""
        query = "SELECT number, folder, place, stamp, id, size, digest, arrival FROM message WHERE number=?"
        return MessageRecord(*self.ask(query, (number,)).fetchone())

    def has_id(self, id: str) -> bool:
        """Whether this run has met a message of that ID."""
        return self.ask("SELECT 1 FROM message WHERE run=? AND id=?", (self.run, id)).fetchone() is not None

    def facts(self, number: int) -> list[str]:
        """A message's date, from, to, cc and subject."""
        return unpacked(self.ask("SELECT facts FROM message WHERE number=?", (number,)).fetchone()[0])

    def notes(self, number: int) -> list[Note]:
        """The notes of the plan on a message."""
        return unpacked_notes(self.ask("SELECT notes FROM message WHERE number=?", (number,)).fetchone()[0])

    def tags(self, number: int) -> str:
        """The tags of a message, joined with commas."""
        return str(self.ask("SELECT tags FROM message WHERE number=?", (number,)).fetchone()[0])

    def digests(self, folder: str, naming: str) -> list[str | None]:
        """The digests of a folder's messages in this run, in the order of work; None of one that was never read."""
        return [
            row[0]
            for row in self.ask(
                "SELECT m.digest FROM message m JOIN name n ON n.message=m.number AND n.naming=? "
                "WHERE m.run=? AND m.folder=? ORDER BY m.place, m.number",
                (naming, self.run, folder),
            )
        ]

    def register(self) -> Iterable[tuple[Any, ...]]:
        """What the register says of each message, in the order of folders and places.

        Number, id, folder, facts, attachments, size, digest, outcome, reason, notes of the plan, tags; then
        the path of one of its files, the notes on that, and prefix, first and last of its numbers. A message with
        several files has as many rows.
        """
        return self.ask(
            "SELECT m.number, m.id, m.folder, m.facts, m.attachments, m.size, m.digest, m.outcome, m.reason, m.notes, "
            "m.tags, f.path, f.notes, n.prefix, n.first, n.last FROM message m LEFT JOIN file f ON f.message=m.number "
            "LEFT JOIN numbered n ON n.sha256=f.sha256 WHERE m.outcome<>'' "
            "ORDER BY m.folder, m.place, m.digest, m.number, f.path"
        )


class PageNumbers(NamedTuple):
    """The numbers that a PDF was given, and the digest that it has with them ("": they were never put on its pages)."""

    first: int
    last: int
    sha256: str


class Numbers:
    """Numbers that run through the pages of all PDFs of a folder, by their prefix. One is given once. All methods raise
    TargetError where the disk fails."""

    def __init__(self, base: Database) -> None:
        self._base = base

    def last(self, prefix: str) -> int:
        """The last number that was given; 0 where none was."""
        return self._base.ask("SELECT max(last) FROM numbered WHERE prefix=?", (prefix,)).fetchone()[0] or 0

    def of(self, prefix: str, message: int) -> PageNumbers | None:
        """The numbers of the PDF of a message; of a bound one, they are those of its first message."""
        row = self._base.ask(
            "SELECT first, last, sha256 FROM numbered WHERE prefix=? AND message=? ORDER BY first DESC LIMIT 1",
            (prefix, message),
        ).fetchone()
        return PageNumbers(*row) if row else None

    def has(self, message: int) -> bool:
        """Whether the files of a message are named by numbers."""
        return self._base.ask("SELECT 1 FROM numbered WHERE message=? LIMIT 1", (message,)).fetchone() is not None

    def any(self) -> bool:
        """Whether numbers were ever given in this folder."""
        return self._base.ask("SELECT 1 FROM numbered LIMIT 1").fetchone() is not None

    def give(self, prefix: str, message: int, first: int, last: int) -> None:
        """Numbers are given to the PDF of a message."""
        self._base.ask("INSERT INTO numbered VALUES (?,?,?,?,'')", (prefix, first, last, message))

    def note(self, prefix: str, first: int, sha256: str) -> None:
        """The PDF with these numbers has this digest."""
        self._base.ask("UPDATE numbered SET sha256=? WHERE prefix=? AND first=?", (sha256, prefix, first))

    def in_use(self, prefix: str) -> list[tuple[int, int]]:
        """First and last number of each PDF that is there, in their order."""
        rows = self._base.ask(
            "SELECT first, last FROM numbered n WHERE prefix=? AND EXISTS "
            "(SELECT 1 FROM file f WHERE f.message=n.message AND f.sha256=n.sha256) ORDER BY first",
            (prefix,),
        )
        return [tuple(row) for row in rows]


class Names:
    """A name is one of a `naming`: for two exports that name alike, a message has the same.

    All methods raise TargetError where the disk fails.
    """

    def __init__(self, base: Database) -> None:
        self._base = base

    def has(self, number: int, naming: str) -> bool:
        return (
            self._base.ask("SELECT 1 FROM name WHERE message=? AND naming=?", (number, naming)).fetchone() is not None
        )

    def stem(self, number: int, naming: str) -> str:
        """The name of a message by a `naming`; "" where it has none."""
        row = self._base.ask("SELECT stem FROM name WHERE message=? AND naming=?", (number, naming)).fetchone()
        return str(row[0]) if row else ""

    def own_numbers(self, number: int, key: str) -> list[int]:
        """The numbers behind `key` in the names and files that a message has from earlier runs, in order."""
        either = "SELECT key FROM name WHERE message=? UNION ALL SELECT path FROM file WHERE message=?"
        texts = (collision_key(row[0]) for row in self._base.ask(either, (number, number)))
        numbers = (_NUMBER.match(text, len(key)) for text in texts if text.startswith(key))
        return sorted({int(match[1]) if match else 1 for match in numbers})

    def wish(self, number: int, wish: PlannedMessage) -> None:
        """The name that a message of an earlier run would like."""
        self._base.ask("INSERT OR REPLACE INTO fresh VALUES (?,?,?,?)", (number, wish.key, wish.stem, wish.date))

    def rivals(self) -> list[int]:
        """Messages whose wished names collide with each other's."""
        shared = "SELECT key FROM fresh GROUP BY key HAVING count(*) > 1"
        return [row[0] for row in self._base.ask(f"SELECT message FROM fresh WHERE key IN ({shared}) ORDER BY message")]

    def give_lone(self, naming: str) -> None:
        """Give the names that one message alone wishes for and that are free, where no file can stand in the way."""
        lone = "SELECT key FROM fresh GROUP BY key HAVING count(*) = 1"
        self._base.ask(
            f"INSERT INTO name SELECT message, ?, key, stem FROM fresh WHERE key IN ({lone}) "
            f"AND key NOT IN (SELECT key FROM name) AND key NOT IN ({', '.join('?' * len(RESERVED_STEMS))}) "
            "ORDER BY message",
            (naming, *RESERVED_STEMS),
        )
        self._base.ask("DELETE FROM fresh WHERE message IN (SELECT message FROM name WHERE naming=?)", (naming,))

    def wishes(self) -> Iterator[tuple[int, str, str]]:
        """All wishes (message, key, stem): first those that come first under their key, then the others.

        Under one key, order goes by date, then by the digest of the bytes, then by place: never by time of reading.
        """
        order = "f.key, f.date, coalesce(m.digest, ''), m.folder, m.place"
        numbered = (
            f"SELECT f.message, f.key, f.stem, row_number() OVER (PARTITION BY f.key ORDER BY {order}) AS turn "
            "FROM fresh f JOIN message m ON m.number=f.message"
        )
        return iter(self._base.ask(f"SELECT message, key, stem FROM ({numbered}) ORDER BY turn > 1, key, turn"))

    def wished(self, key: str) -> bool:
        return self._base.ask("SELECT 1 FROM fresh WHERE key=?", (key,)).fetchone() is not None

    def index_wishes(self) -> None:
        self._base.ask("CREATE INDEX IF NOT EXISTS temp.fresh_by_key ON fresh (key)")

    def clear_wishes(self) -> None:
        self._base.ask("DELETE FROM fresh")

    def taken(self, key: str, number: int = 0) -> bool:
        """Whether a message other than this one bears a name that collides with `key`."""
        return self._base.ask("SELECT 1 FROM name WHERE key=? AND message<>?", (key, number)).fetchone() is not None

    def give(self, number: int, naming: str, stem: str) -> None:
        row = number, naming, collision_key(stem), stem
        self._base.ask("INSERT INTO name (message, naming, key, stem) VALUES (?,?,?,?)", row)
