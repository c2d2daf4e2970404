"""The attachments in a journal that are files of their own: which, of which message, in which file."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from wexagraph.exports.journal.journal import Journal
from wexagraph.exports.journal.records import packed
from wexagraph.naming.paths import RESERVED, collision_key, with_extension, with_number
from wexagraph.output.target import Target
from wexagraph.sources.base import Envelope

_OFTEN = 16
"""Attachments of one name, from which on it is remembered up to which number their names are given."""


class Attachments:
    """Those of one folder, for a run that takes them by the `recipes` of their own bytes and of their PDFs ("" for what
    is not asked for). All methods raise TargetError where the disk fails."""

    def __init__(self, journal: Journal, recipes: Sequence[str]) -> None:
        self.journal, self._recipes = journal, tuple(recipes)
        self._numbers: dict[tuple[str, str, str, str], int] = {}
        self._given: dict[str, int] = {}

    def known(self, source: str, where: Envelope) -> list[Entry] | None:
        """What a run with these options has taken from this message; None where none has met it."""
        number = self.journal.known(source, where.folder, where.place, where.fingerprint())
        asked = set(filter(None, self._recipes))
        if number is None or not asked <= {
            row[0] for row in self.journal.ask("SELECT recipe FROM met WHERE message=?", (number,))
        }:
            return None
        self.journal.keep(number)
        origin = Origin(where.folder, where.place, where.fingerprint(), "")
        native, paged = self._recipes
        return [
            entry
            for entry in self._entries(origin, number)
            if (native and entry.recipe == native) or (paged and entry.document and entry.document.recipe == paged)
        ]

    def digest(self, source: str, where: Envelope) -> str:
        """The SHA-256 of a message that was met, in hexadecimal."""
        number = self.journal.known(source, where.folder, where.place, where.fingerprint())
        return self.journal.row(number).digest or "" if number is not None else ""

    def before(self, entry: Entry) -> Entry | None:
        """The same attachment of the same message under the same name, as an earlier run took it."""
        return next(self._entries(entry.origin, self._number(entry.origin), entry), None)

    def _entries(self, origin: Origin, number: int, like: Entry | None = None) -> Iterator[Entry]:
        narrowed, values = ("AND key=? AND wish=?", (like.key, like.wish)) if like else ("", ())
        rows = self.journal.ask(
            "SELECT key, wish, a.name, a.type, a.size, a.sha256, a.path, a.modified, a.note, a.recipe, "
            "d.state, d.path, d.size, d.sha256, d.modified, d.recipe "
            "FROM attachment a LEFT JOIN document d USING (message, key, wish) "
            f"WHERE message=? {narrowed} ORDER BY key",
            (number, *values),
        )
        for row in rows.fetchall():
            entry = Entry(origin, *row[:10])
            entry.document = Document(*row[10:]) if row[10] is not None else None
            yield entry

    def document_of(self, sha256: str) -> Document | None:
        """The PDF that was made in this way of an attachment with these bytes."""
        row = self.journal.ask(
            "SELECT d.state, d.path, d.size, d.sha256, d.modified, d.recipe FROM document d "
            "JOIN attachment a USING (message, key, wish) WHERE a.sha256=? AND d.recipe=? "
            "ORDER BY message, key LIMIT 1",
            (sha256, self._recipes[1]),
        ).fetchone()
        return Document(*row) if row else None

    def path_of(self, sha256: str) -> str | None:
        """The file in which these bytes are already."""
        row = self.journal.ask(
            "SELECT path FROM attachment WHERE sha256=? AND path<>'' ORDER BY message, key LIMIT 1", (sha256,)
        ).fetchone()
        return str(row[0]) if row else None

    def is_of_another(self, entry: Entry) -> bool:
        """Whether the file of an attachment was written for another one with the same bytes."""
        row = self.journal.ask(
            "SELECT message, key, wish FROM attachment WHERE path=? ORDER BY message, key, wish LIMIT 1", (entry.path,)
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
                there = (
                    taken
                    and candidate.lower() not in RESERVED
                    and target.sha256(candidate) == sha256
                    and not self.journal.files.is_of_an_export(candidate)
                )
                if there or not taken:
                    self.journal.ask("INSERT INTO given VALUES (?)", (collision_key(candidate),))
                    return candidate, there
            number += 1

    def _is_given(self, path: str) -> bool:
        return self.journal.ask("SELECT 1 FROM given WHERE key=?", (collision_key(path),)).fetchone() is not None

    def add(self, entry: Entry) -> None:
        """An attachment was taken; with its PDF, where it has one."""
        unit = (self._number(entry.origin), entry.key, entry.wish)
        file = (entry.name, entry.type, entry.size, entry.sha256, entry.path, entry.modified, entry.note, entry.recipe)
        self.journal.ask("INSERT OR REPLACE INTO attachment VALUES (?,?,?,?,?,?,?,?,?,?,?)", (*unit, *file))
        if (document := entry.document) is not None:
            pdf = (document.path, document.size, document.sha256, document.modified, document.state, document.recipe)
            self.journal.ask("INSERT OR REPLACE INTO document VALUES (?,?,?,?,?,?,?,?,?)", (*unit, *pdf))

    def drop(self, entry: Entry) -> None:
        """The file could not be put: the attachment is not taken after all."""
        unit = (self._number(entry.origin), entry.key, entry.wish)
        for table in ("attachment", "document"):
            self.journal.ask(f"DELETE FROM {table} WHERE message=? AND key=? AND wish=?", unit)

    def _number(self, origin: Origin) -> int:
        """The number of a message, given before it counts as met. One with the same bytes that this run has not met
        lies at another place now, where the mailbox was compacted, or copied: it keeps its files."""
        key = (origin.source, origin.folder, origin.place, origin.stamp)
        if key not in self._numbers:
            number = self.journal.known(*key)
            if number is None and origin.sha256:
                number = self.journal.moved(origin.folder, origin.sha256)
            if number is None:
                number = self.journal.add_one(
                    source=origin.source,
                    folder=origin.folder,
                    place=origin.place,
                    stamp=origin.stamp,
                    id=origin.id,
                    size=origin.size,
                    digest=origin.sha256,
                    facts=packed((origin.date, *origin.written)),
                    run=self.journal.run,
                )
            else:
                self.journal.keep(number, (origin.source, origin.place, origin.stamp, origin.id))
            self._numbers[key] = number
        return self._numbers[key]

    def meet(self, origins: Iterable[Origin], recipes: Sequence[str] | None = None) -> None:
        """These messages are done: all their attachments are on the disk, by these `recipes` (else all). What was said
        so far becomes lasting."""
        for origin in origins:
            for recipe in filter(None, self._recipes if recipes is None else recipes):
                self.journal.ask("INSERT OR IGNORE INTO met VALUES (?,?)", (self._number(origin), recipe))
        self._numbers.clear()
        self.journal.commit()


@dataclass(slots=True)
class Origin:
    """The message that attachments are from: where it lies, when it is from, what is `written` of people and subject
    (see `written_by`); `sha256` and `size` are of its bytes."""

    folder: str
    place: str
    stamp: str
    id: str
    date: str = ""
    written: tuple[str, ...] = ("",)
    sha256: str = ""
    size: int = 0
    source: str = ""

    @property
    def subject(self) -> str:
        """Its subject."""
        return self.written[-1]


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
