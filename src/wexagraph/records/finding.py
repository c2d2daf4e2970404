"""Finding messages in cases and export folders by their words: an index made from the folders, and of what is new."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import ExitStack
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from wexagraph.errors import TargetError
from wexagraph.exports.file_words import FileWords, file_to_open, words_of
from wexagraph.exports.register import files_by_digest
from wexagraph.naming.paths import MANIFEST
from wexagraph.output.databases import Damaged, Database, Form, open_database
from wexagraph.selection.criteria import folded
from wexagraph.temporary import TemporaryFolder
from wexagraph.work.batches import WorkerLost
from wexagraph.work.pool import ProcessWorkers

_PATIENCE = 30.0
_SCHEMA = """
CREATE TABLE folder (path TEXT PRIMARY KEY, stamp TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE letter (
    number INTEGER PRIMARY KEY, folder TEXT NOT NULL, digest TEXT NOT NULL, file TEXT NOT NULL, date TEXT NOT NULL,
    sender TEXT NOT NULL, subject TEXT NOT NULL, files TEXT NOT NULL
);
CREATE INDEX letter_folder ON letter (folder, digest);
CREATE VIRTUAL TABLE words USING fts5(
    subject, people, body, names, attached, title, tokenize="unicode61 remove_diacritics 2 tokenchars '_'"
);
"""
_INDEX = Form("the index of words", _SCHEMA, version=2)
_OPEN, _CLOSE = "\x02", "\x03"


@dataclass(frozen=True)
class Found:
    """A message that was found: the folder it lies in (as it was indexed), its file to open, its date in UTC, and the
    place where the words stand, as pieces of which every second one was looked for."""

    folder: str
    digest: str
    file: str
    date: str
    sender: str
    subject: str
    place: tuple[str, ...]


class Finder:
    """The index of a records folder, or of one export folder; for this search alone where that can't be written to.

    Methods raise TargetError where the disk fails.
    """

    def __init__(self, home: Path) -> None:
        self._home, self._elsewhere = home, ExitStack()
        self._base = self._opened(anew=False)

    def _opened(self, anew: bool) -> Database:
        try:
            return open_database(self._home, "find.sqlite", _INDEX, proved=False, anew=anew)
        except TargetError:
            place = self._elsewhere.enter_context(TemporaryFolder())
            return open_database(place, "find.sqlite", _INDEX)

    def close(self) -> None:
        """Close the index."""
        self._base.close()
        self._elsewhere.close()

    def find(self, text: str, folders: Iterable[tuple[Path, str]], folder: str | None = None) -> list[Found]:
        """The messages of export folders, each with a title, that have all words of a text; see `search`. An index that
        turns out to be damaged is made again."""
        folders = list(folders)
        try:
            self.bring_up(folders)
            return list(self.search(text, folder))
        except Damaged:
            self._base.close()
            self._base = self._opened(anew=True)
        self.bring_up(folders)
        return list(self.search(text, folder))

    def bring_up(self, folders: Iterable[tuple[Path, str]], tell: Callable[[int], None] = lambda count: None) -> None:
        """Take in what is new in export folders, each with a title, and forget what is gone. `tell` is told how many
        messages were read."""
        wanted = {self._name(path): (path, title) for path, title in folders}
        stamps = dict(self._base.ask("SELECT path, stamp FROM folder").fetchall())
        for name in stamps.keys() - wanted.keys():
            self._forget(name, None)
        now = {name: f"{_stamp(path)}|{title}" for name, (path, title) in wanted.items()}
        behind = [name for name in wanted if stamps.get(name) != now[name]]
        if not behind:
            return
        done = 0
        with ProcessWorkers(2, _PATIENCE) as pool:
            for name in behind:
                done = self._take_in(pool, name, *wanted[name], done, tell)
                self._base.ask("INSERT OR REPLACE INTO folder VALUES (?,?)", (name, now[name]))

    def _name(self, path: Path) -> str:
        return "" if path == self._home else path.name

    def _take_in(
        self, pool: ProcessWorkers, name: str, path: Path, title: str, done: int, tell: Callable[[int], None]
    ) -> int:
        there = files_by_digest(path)
        known = dict(self._base.ask("SELECT digest, files FROM letter WHERE folder=?", (name,)).fetchall())
        stale = {digest for digest, files in known.items() if files != _joined(there.get(digest, []))}
        for digest in stale:
            self._forget(name, digest)
        new = iter(sorted(there.keys() - (known.keys() - stale)))
        while batch := list(islice(new, 64)):
            futures = [(digest, pool.submit(words_of, str(path), there[digest])) for digest in batch]
            with self._base.change():
                for digest, future in futures:
                    self._add(name, digest, there[digest], title, future)
                    done += 1
                    tell(done)
        self._base.ask(
            "UPDATE words SET title=? WHERE rowid IN (SELECT number FROM letter WHERE folder=?)", (title, name)
        )
        return done

    def _add(self, name: str, digest: str, files: list[str], title: str, future: Future[FileWords]) -> None:
        try:
            words = future.result()
        except (WorkerLost, OSError):  # a file that no reader ends, or that is none: it is found by its name
            words = FileWords(title=files[0], subject=files[0])
        row = self._base.ask(
            "INSERT INTO letter (folder, digest, file, date, sender, subject, files) VALUES (?,?,?,?,?,?,?)",
            (name, digest, file_to_open(files), words.date, words.sender, words.title, _joined(files)),
        )
        self._base.ask(
            "INSERT INTO words (rowid, subject, people, body, names, attached, title) VALUES (?,?,?,?,?,?,?)",
            (row.lastrowid, *_clean(words.subject, words.people, words.body, words.names, words.attached), title),
        )

    def _forget(self, name: str, digest: str | None) -> None:
        chosen = "SELECT number FROM letter WHERE folder=?" + (" AND digest=?" if digest else "")
        values = (name, digest) if digest else (name,)
        self._base.ask(f"DELETE FROM words WHERE rowid IN ({chosen})", values)
        self._base.ask(f"DELETE FROM letter WHERE number IN ({chosen})", values)
        if not digest:
            self._base.ask("DELETE FROM folder WHERE path=?", (name,))

    def search(self, text: str, folder: str | None = None, most: int = 1000) -> Iterator[Found]:
        """The messages with all words of a text, the best first: each word as the beginning of a word, those in
        quotation marks side by side."""
        query = _query(text)
        if not query:
            return
        within = " AND l.folder=?" if folder is not None else ""
        rows = self._base.ask(
            "SELECT l.folder, l.digest, l.file, l.date, l.sender, l.subject, "
            f"snippet(words, -1, '{_OPEN}', '{_CLOSE}', '\N{HORIZONTAL ELLIPSIS}', 18) "
            f"FROM words JOIN letter l ON l.number=words.rowid WHERE words MATCH ?{within} "
            "ORDER BY bm25(words, 8, 4, 1, 4, 1, 4) LIMIT ?",
            (query, *((folder,) if folder is not None else ()), most),
        )
        for name, digest, file, date, sender, subject, place in rows:
            yield Found(name, digest, file, date, sender, subject, tuple(re.split(f"[{_OPEN}{_CLOSE}]", place)))


def _joined(files: list[str]) -> str:
    return "\n".join(files)


def _stamp(path: Path) -> str:
    """Changes when an export folder does."""
    try:
        about = (path / MANIFEST).stat()
    except OSError:
        return ""
    return f"{about.st_size}.{about.st_mtime_ns}"


def _query(text: str) -> str:
    asked = []
    for quoted, word in re.findall(r'"([^"]+)"|(\S+)', text):
        words = re.findall(r"\w+", folded(quoted or word))
        if words:
            asked.append(f'"{" ".join(words)}"' + ("" if quoted else "*"))
    return " ".join(asked)


def _clean(*texts: str) -> tuple[str, ...]:
    """Texts as SQLite takes them, without what marks a place in them."""
    return tuple(re.sub(f"[{_OPEN}{_CLOSE}]", "", text.encode("utf-8", "replace").decode("utf-8")) for text in texts)
