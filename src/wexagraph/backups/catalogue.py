"""The catalogue: an index over volumes and run lists, and the full text. All of it can be made again from data/."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wexagraph.backups.catalogue_base import FOREVER, open_base
from wexagraph.backups.packing import Packed
from wexagraph.backups.runlists import FolderChange, Holding, RunList
from wexagraph.backups.volumes import Member
from wexagraph.deflating import LEVEL, deflate
from wexagraph.errors import SourceError, TargetError
from wexagraph.files import open_regular
from wexagraph.selection.criteria import folded

_MOST_STEPS = 20_000  # millions of steps of a statement, which none of ours ever takes


@dataclass(frozen=True, slots=True)
class Stored:
    """Where the bytes of a message are."""

    number: int
    digest: str
    volume: int
    offset: int
    packed: int
    size: int
    member: str


class Catalogue:
    """The catalogue of one backup, open for reading, or for writing in one transaction. Raises TargetError."""

    def __init__(self, path: Path, writing: bool = False) -> None:
        self.path = path
        self._lost: frozenset[int] = frozenset()
        self._steps = 0
        try:
            self._base = open_base(path, writing)
        except (sqlite3.Error, OSError) as error:
            raise self._damaged(error) from error
        self._base.set_progress_handler(self._step, 1_000_000)

    def _damaged(self, error: Exception) -> CatalogueDamaged:
        return CatalogueDamaged(
            f"the catalogue {self.path} is damaged ({error}). `wexagraph verify DIR --repair DIR` makes it again from "
            "the volumes."
        )

    def _step(self) -> bool:
        self._steps += 1
        return self._steps > _MOST_STEPS

    def close(self) -> None:
        """Give up what was not committed."""
        self._base.close()

    def commit(self) -> None:
        """Make everything lasting."""
        self._ask("COMMIT")
        self._ask("BEGIN IMMEDIATE")

    def _ask(self, sql: str, values: Iterable[Any] = ()) -> sqlite3.Cursor:
        self._steps = 0
        try:
            return self._base.execute(sql, tuple(values))
        except sqlite3.OperationalError as error:
            raise TargetError(f"the catalogue {self.path} can't be used: {error}. Is the disk full?") from error
        except sqlite3.DatabaseError as error:
            raise self._damaged(error) from error

    def is_sound(self) -> bool:
        """Whether SQLite finds its own structures whole."""
        try:
            return bool(self._base.execute("PRAGMA integrity_check(1)").fetchone()[0] == "ok")
        except sqlite3.Error:
            return False

    # files

    def files(self) -> dict[str, str]:
        """The digests of the files below data/ that it has taken in."""
        return dict(self._ask("SELECT path, sha256 FROM file"))

    def take_file(self, path: str, digest: str, file: Path) -> None:
        """A file below data/ was taken in; of a run list, a copy is kept to mend it by."""
        with open_regular(file) as content:
            copy = deflate.compress(content.read(), LEVEL) if path.endswith(".jsonl") else None
        self._ask("INSERT OR REPLACE INTO file VALUES (?,?,?,?)", (path, digest, file.stat().st_size, copy))

    def copy_of(self, path: str) -> bytes | None:
        """The run list of that path, as it was taken in."""
        row = self._ask("SELECT copy FROM file WHERE path=?", (path,)).fetchone()
        return deflate.decompress(row[0]) if row and row[0] else None

    def forget_file(self, path: str) -> None:
        self._ask("DELETE FROM file WHERE path=?", (path,))
        self._ask("DELETE FROM whole WHERE path=?", (path,))

    def seen_whole(self, path: str) -> tuple[int, int] | None:
        """Size and time (nanoseconds) of a file when it was last known to be whole."""
        row = self._ask("SELECT size, modified FROM whole WHERE path=?", (path,)).fetchone()
        return (row[0], row[1]) if row else None

    def see_whole(self, path: str, stamp: tuple[int, int]) -> None:
        """A file is whole, of that size and time."""
        self._ask("INSERT OR REPLACE INTO whole VALUES (?,?,?)", (path, *stamp))

    def lose(self, volumes: Iterable[int]) -> None:
        """These volumes are lost: what lies in them counts as not stored, until it is stored again."""
        self._lost = frozenset(volumes)

    def still_lost(self, volume: int) -> int:
        """How many messages lie in a volume, and so were not stored again."""
        return int(self._ask("SELECT count(*) FROM message WHERE volume=?", (volume,)).fetchone()[0])

    # messages

    def has(self, digest: bytes) -> bool:
        row = self._ask("SELECT volume FROM message WHERE digest=?", (digest,)).fetchone()
        return row is not None and row[0] not in self._lost

    def add_message(self, packed: Packed, volume: int, member: Member) -> None:
        """A message that is in a volume now."""
        if self._lost and self._ask("SELECT 1 FROM message WHERE digest=?", (packed.digest,)).fetchone():
            self.move_message(packed.digest, volume, member)
            return
        cursor = self._ask(
            "INSERT INTO message (digest, volume, member, offset, packed, size, header, leaves) "
            "VALUES (?,?,?,?,?,?,?,?)",
            (
                packed.digest,
                volume,
                member.name,
                member.offset,
                member.packed,
                packed.size,
                packed.header,
                packed.leaves,
            ),
        )
        self._ask(
            "INSERT INTO words (rowid, subject, people, body, names) VALUES (?,?,?,?,?)",
            (cursor.lastrowid, *map(folded, packed.words)),
        )

    def move_message(self, digest: bytes, volume: int, member: Member) -> None:
        """A message lies in another volume now."""
        self._ask(
            "UPDATE message SET volume=?, member=?, offset=?, packed=? WHERE digest=?",
            (volume, member.name, member.offset, member.packed, digest),
        )

    def stored(self, digest: str) -> Stored | None:
        """Where the bytes of a message are, by its digest."""
        row = self._ask(f"SELECT {_STORED} FROM message WHERE digest=?", (bytes.fromhex(digest),)).fetchone()
        return _stored(row) if row else None

    def digests(self) -> dict[str, int]:
        """The volume of each message, by digest."""
        return dict(self._ask("SELECT lower(hex(digest)), volume FROM message"))

    def in_volume(self, volume: int) -> Iterator[Stored]:
        """The messages of a volume, in its order."""
        rows = self._ask(f"SELECT {_STORED} FROM message WHERE volume=? ORDER BY offset", (volume,))
        return map(_stored, rows)

    def counts(self) -> tuple[int, int]:
        """How many messages it has, and how many bytes they are."""
        return tuple(self._ask("SELECT count(*), coalesce(sum(size), 0) FROM message").fetchone())

    # runs

    def runs(self) -> list[dict[str, Any]]:
        """The runs it has taken in, first to last."""
        names = ("number", "name", "source", "added", "gone", "changed", "failed", "bytes", "state")
        moments = dict(self._ask("SELECT run, moment FROM moment")) if self._has_moments() else {}
        rows = (dict(zip(names, row, strict=True)) for row in self._ask("SELECT * FROM run ORDER BY name"))
        return [row | {"moment": moments.get(row["name"], row["name"])} for row in rows]

    def _has_moments(self) -> bool:
        return int(self._ask("PRAGMA user_version").fetchone()[0]) >= 4

    def take_run(self, run: RunList) -> None:
        """Take in a run list; those before it were taken in already. All its messages are known."""
        name, source, end = run.head["run"], run.head["source"], run.end or {"end": "stopped"}
        number = int(self._ask("SELECT coalesce(max(number), 0) + 1 FROM run").fetchone()[0])
        sums = [int(end.get(key, 0)) for key in ("added", "gone", "changed", "failed", "bytes")]
        self._ask("INSERT INTO run VALUES (?,?,?,?,?,?,?,?,?)", (number, name, source, *sums, str(end["end"])))
        if run.head.get("moment", name) != name:
            self._ask("INSERT OR REPLACE INTO moment VALUES (?,?)", (name, run.head["moment"]))
        for change in run.folders:
            self.take_folder(number, source, name, change)

    def take_folder(self, run: int, source: str, name: str, change: FolderChange) -> None:
        """Take in what the run of that number and name says of a folder."""
        folder = self.folder(source, change.name)
        if folder is None:
            cursor = self._ask(
                "INSERT INTO folder (source, name, stamp, run) VALUES (?,?,?,?)",
                (source, change.name, change.stamp, name),
            )
            folder = int(cursor.lastrowid or 0)
        else:
            self._ask("UPDATE folder SET stamp=?, run=? WHERE number=?", (change.stamp, name, folder))
        if not change.base:
            self._ask("UPDATE holding SET last=? WHERE folder=? AND last=?", (run - 1, folder, FOREVER))
        ending = [*change.gone, *(holding.place for holding in change.present)] if change.base else []
        self._base.executemany(
            "UPDATE holding SET last=? WHERE folder=? AND place=? AND last=?",
            ((run - 1, folder, place, FOREVER) for place in ending),
        )
        self._base.executemany(
            "INSERT OR REPLACE INTO holding SELECT ?, ?, number, ?, ?, ?, ?, ? FROM message WHERE digest=?",
            (
                (folder, h.place, h.stamp, " ".join(h.flags), h.arrived, run, FOREVER, bytes.fromhex(h.digest))
                for h in change.present
            ),
        )

    # folders and what they hold

    def folder(self, source: str, name: str) -> int | None:
        row = self._ask("SELECT number FROM folder WHERE source=? AND name=?", (source, name)).fetchone()
        return row[0] if row else None

    def folder_state(self, source: str, name: str) -> tuple[str, str] | None:
        """The stamp of a source's folder at the last run that looked into it, and that run; None where none did."""
        row = self._ask("SELECT stamp, run FROM folder WHERE source=? AND name=?", (source, name)).fetchone()
        return (row[0], row[1]) if row else None

    def held_at(self, folder: int | None, place: str) -> Holding | None:
        """What a folder holds at a place since the last run."""
        if folder is None:
            return None
        row = self._ask(
            "SELECT h.stamp, lower(hex(m.digest)), m.size, h.flags, h.arrived, m.volume FROM holding h "
            "JOIN message m ON m.number=h.message WHERE h.folder=? AND h.place=? AND h.last=?",
            (folder, place, FOREVER),
        ).fetchone()
        if row is None or row[5] in self._lost:
            return None
        return Holding("", place, row[0], row[1], row[2], tuple(row[3].split()), row[4])

    def relies_on_lost(self, folder: int) -> bool:
        """Whether a folder holds a message whose volume is lost."""
        if not self._lost:
            return False
        rows = self._ask(
            "SELECT DISTINCT m.volume FROM holding h JOIN message m ON m.number=h.message "
            "WHERE h.folder=? AND h.last=?",
            (folder, FOREVER),
        )
        return any(volume in self._lost for (volume,) in rows)

    def orphans(self) -> list[tuple[str, str]]:
        """Messages that no run list tells of: digest and member."""
        return list(
            self._ask(
                "SELECT lower(hex(digest)), member FROM message m WHERE NOT EXISTS "
                "(SELECT 1 FROM holding h WHERE h.message=m.number) ORDER BY number"
            )
        )

    def count_held(self, folder: int) -> int:
        """How many messages a folder holds since the last run."""
        row = self._ask("SELECT count(*) FROM holding WHERE folder=? AND last=?", (folder, FOREVER))
        return int(row.fetchone()[0])

    def start_seeing(self) -> None:
        """Forget which places of a folder were seen."""
        self._ask("CREATE TEMP TABLE IF NOT EXISTS seen (place TEXT PRIMARY KEY) WITHOUT ROWID")
        self._ask("DELETE FROM seen")

    def see(self, place: str) -> None:
        """A place of the folder in hand is still there."""
        self._ask("INSERT OR IGNORE INTO seen VALUES (?)", (place,))

    def unseen(self, folder: int) -> list[tuple[str, str]]:
        """Places of a folder that hold nothing any more, each with the digest of what it held."""
        rows = self._ask(
            "SELECT h.place, lower(hex(m.digest)) FROM holding h JOIN message m ON m.number=h.message "
            "WHERE h.folder=? AND h.last=? AND h.place NOT IN (SELECT place FROM seen) ORDER BY h.place",
            (folder, FOREVER),
        )
        return list(rows)

    def folders(self) -> list[tuple[int, str, str]]:
        """All folders: number, source, name."""
        return list(self._ask("SELECT number, source, name FROM folder ORDER BY name, source"))

    def folders_held(self, source: str) -> list[tuple[int, str]]:
        """Number and name of a source's folders that hold something since the last run."""
        return list(
            self._ask(
                "SELECT number, name FROM folder f WHERE source=? AND EXISTS "
                "(SELECT 1 FROM holding h WHERE h.folder=f.number AND h.last=?) ORDER BY name",
                (source, FOREVER),
            )
        )

    def left_behind(self, run: int | None) -> set[int]:
        """The folders that held something in another run, and nothing in this one: they were removed or emptied."""
        if run is None:
            return set()
        rows = self._ask(
            "SELECT DISTINCT folder FROM holding EXCEPT SELECT folder FROM holding WHERE first<=? AND last>=?",
            (run, run),
        )
        return {row[0] for row in rows}

    def contents(self, folder: int, run: int | None, numbers: Iterable[int] | None = None) -> Iterator[tuple[Any, ...]]:
        """What a folder held in a run, or (None) ever: place, stamp, flags, arrival; number, digest, size, header."""
        when, values = _when(run)
        joined = "holding h JOIN message m ON m.number=h.message"
        if numbers is not None:
            self._ask("CREATE TEMP TABLE IF NOT EXISTS chosen (message INTEGER PRIMARY KEY)")
            self._ask("DELETE FROM chosen")
            self._base.executemany("INSERT INTO chosen VALUES (?)", ((number,) for number in numbers))
            joined = f"chosen CROSS JOIN {joined} AND h.message=chosen.message"  # from the few to what holds them
        sql = (
            "SELECT h.place, h.stamp, h.flags, h.arrived, m.number, lower(hex(m.digest)), m.size, m.header "
            f"FROM {joined} WHERE h.folder=?{when} GROUP BY h.place, h.message ORDER BY h.place, h.first"
        )
        return iter(self._ask(sql, (folder, *values)))

    def size(self, folder: int, run: int | None) -> int:
        """How many bytes a folder held."""
        when, values = _when(run)
        joined = "holding h JOIN message m ON m.number=h.message"
        sql = f"SELECT coalesce(sum(m.size), 0) FROM {joined} WHERE h.folder=?{when}"
        return int(self._ask(sql, (folder, *values)).fetchone()[0])

    def leaves(self, number: int) -> list[tuple[str, str, int]]:
        row = self._ask("SELECT leaves FROM message WHERE number=?", (number,)).fetchone()
        return [(name, type, size) for name, type, size in json.loads(row[0])] if row else []

    def vanished(self) -> int:
        """How many messages lie in no folder any more."""
        ended = f"SELECT DISTINCT message FROM holding WHERE last < {FOREVER}"
        held = f"SELECT 1 FROM holding WHERE holding.message=ended.message AND last={FOREVER}"
        return int(self._ask(f"SELECT count(*) FROM ({ended}) ended WHERE NOT EXISTS ({held})").fetchone()[0])

    # words

    def unread(self, way: str, least: str) -> list[tuple[int, str, list[tuple[str, str, int]]]]:
        """The messages whose attachments were not read in this way yet, nor, where it is the `least`, in one that does
        more: number, digest, attachments."""
        rows = self._ask(
            "SELECT number, lower(hex(digest)), leaves FROM message WHERE leaves<>'[]' AND number NOT IN "
            "(SELECT message FROM scanned WHERE languages=? OR (?=? AND languages LIKE ?)) ORDER BY volume, offset",
            (way, way, least, f"{least}+%"),
        )
        return [(number, digest, json.loads(leaves)) for number, digest, leaves in rows]

    def recognised(self, digest: bytes, languages: str) -> str | None:
        """The words of a scan, where it was read already."""
        row = self._ask("SELECT words FROM recognised WHERE digest=? AND languages=?", (digest, languages)).fetchone()
        return str(row[0]) if row else None

    def recognise(self, digest: bytes, languages: str, words: str) -> None:
        """A scan was read."""
        self._ask("INSERT OR REPLACE INTO recognised VALUES (?,?,?)", (digest, languages, words))

    def scans_of(self, number: int) -> str:
        """The words that a message has got from its scans."""
        if self._ask("PRAGMA user_version").fetchone()[0] < 3:
            return ""
        row = self._ask("SELECT words FROM scanned WHERE message=?", (number,)).fetchone()
        return str(row[0]) if row else ""

    def take_scans(self, number: int, languages: str, words: str, own: tuple[str, str, str, str]) -> None:
        """A message has these words from its scans, beside its `own` as it was indexed."""
        before = self.scans_of(number)
        columns = "rowid, subject, people, body, names"
        # the index keeps no texts: what a row was made of says what is taken out of it
        for sql, more in (
            (f"INSERT INTO words (words, {columns}) VALUES ('delete',?,?,?,?,?)", before),
            (f"INSERT INTO words ({columns}) VALUES (?,?,?,?,?)", words),
        ):
            subject, people, body, names = own
            self._ask(sql, (number, *map(folded, (subject, people, f"{body}\n{more}" if more else body, names))))
        self._ask("INSERT OR REPLACE INTO scanned VALUES (?,?,?)", (number, languages, words))

    def search(self, texts: Iterable[str], most: int = 100_000) -> list[int]:
        """Numbers of the messages that hold all words of one of the texts, best first."""
        query = " OR ".join(f"({asked})" for asked in map(_query, texts) if asked)
        if not query:
            return []
        rows = self._ask("SELECT rowid FROM words WHERE words MATCH ? ORDER BY rank LIMIT ?", (query, most))
        return [row[0] for row in rows]


_STORED = "number, lower(hex(digest)), volume, offset, packed, size, member"


def _stored(row: tuple[Any, ...]) -> Stored:
    return Stored(*row)


def _when(run: int | None) -> tuple[str, tuple[int, ...]]:
    return ("", ()) if run is None else (" AND h.first<=? AND h.last>=?", (run, run))


def _query(text: str) -> str:
    """Words as a query: all of them, the last one also as the beginning of a longer one; "in quotes" side by side."""
    pieces = re.findall(r'"([^"]+)"|(\S+)', text)
    terms = []
    for quoted, word in pieces:
        for one in [quoted] if quoted else [word.replace("*", "")]:
            words = re.findall(r"\w+", folded(one))
            if words:
                terms.append('"' + " ".join(words) + '"' + ("" if quoted else "*"))
    return " AND ".join(terms)


class CatalogueDamaged(SourceError):
    """The catalogue is missing, of another form, or not what SQLite can read: it is made again."""
