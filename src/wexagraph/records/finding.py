"""Finding messages in cases and export folders by their words: an index made from the folders, and of what is new."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC
from html import unescape
from io import BytesIO
from itertools import islice
from pathlib import Path

from wexagraph.backups.packing import describe
from wexagraph.exports.register import files_by_digest
from wexagraph.files import open_regular
from wexagraph.messages import Message
from wexagraph.messages.charsets import decode
from wexagraph.messages.filetypes import DOCX, EML, ODP, ODS, ODT, PPTX, XLSX
from wexagraph.messages.visible_text import html_to_text
from wexagraph.naming.paths import MANIFEST
from wexagraph.pages.attachments.office import document_html
from wexagraph.pages.attachments.sheets import workbook
from wexagraph.records.indexes import open_index
from wexagraph.selection.words import folded
from wexagraph.work.pool import ProcessWorkers
from wexagraph.work.workers import WorkerLost
from wexagraph.zips import UNREADABLE, out_of_proportion

_MOST_TEXT, _MOST_PAGES, _MOST_ATTACHMENTS = 2_000_000, 500, 50
_PATIENCE = 30.0
_SCHEMA = """
CREATE TABLE folder (path TEXT PRIMARY KEY, stamp TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE letter (
    number INTEGER PRIMARY KEY, folder TEXT NOT NULL, digest TEXT NOT NULL, file TEXT NOT NULL, date TEXT NOT NULL,
    sender TEXT NOT NULL, subject TEXT NOT NULL
);
CREATE INDEX letter_folder ON letter (folder, digest);
CREATE VIRTUAL TABLE words USING fts5(
    subject, people, body, names, attached, title, tokenize="unicode61 remove_diacritics 2 tokenchars '_'"
);
"""
_MARKED_UP = (".pptx", ".odt", ".ods", ".odp")
_WORDS_INSIDE = re.compile(r"content\.xml|ppt/(?:slides|notesSlides)/[^/]+\.xml")
_TAG = re.compile(r"<[^>]*>")
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
    """The index of a records folder, or of one export folder. Methods raise TargetError where the disk fails."""

    def __init__(self, home: Path) -> None:
        self._home = home
        self._base = open_index(home, "find.sqlite", _SCHEMA)

    def close(self) -> None:
        """Close the index."""
        self._base.close()

    def bring_up(self, folders: Iterable[tuple[Path, str]], tell: Callable[[int], None] = lambda count: None) -> None:
        """Take in what is new in export folders, each with a title, and forget what is gone. `tell` is told how many
        messages were read."""
        wanted = {self._name(path): (path, title) for path, title in folders}
        stamps = dict(self._base.execute("SELECT path, stamp FROM folder").fetchall())
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
                self._base.execute("INSERT OR REPLACE INTO folder VALUES (?,?)", (name, now[name]))

    def _name(self, path: Path) -> str:
        return "" if path == self._home else path.name

    def _take_in(
        self, pool: ProcessWorkers, name: str, path: Path, title: str, done: int, tell: Callable[[int], None]
    ) -> int:
        there = files_by_digest(path)
        known = {row[0] for row in self._base.execute("SELECT digest FROM letter WHERE folder=?", (name,))}
        for digest in known - there.keys():
            self._forget(name, digest)
        new = iter(sorted(there.keys() - known))
        while batch := list(islice(new, 64)):
            futures = [(digest, pool.submit(words_of, str(path), there[digest])) for digest in batch]
            self._base.execute("BEGIN")
            for digest, future in futures:
                self._add(name, digest, there[digest], title, future)
                done += 1
                tell(done)
            self._base.execute("COMMIT")
        self._base.execute(
            "UPDATE words SET title=? WHERE rowid IN (SELECT number FROM letter WHERE folder=?)", (title, name)
        )
        return done

    def _add(self, name: str, digest: str, files: list[str], title: str, future: Future[tuple[str, ...]]) -> None:
        try:
            date, sender, subject, *texts = future.result()
        except (WorkerLost, OSError):  # a file that no reader ends, or that is none: it is found by its name
            date, sender, subject, texts = "", "", files[0], [files[0], "", "", "", ""]
        row = self._base.execute(
            "INSERT INTO letter (folder, digest, file, date, sender, subject) VALUES (?,?,?,?,?,?)",
            (name, digest, _to_open(files), date, sender, subject),
        )
        self._base.execute(
            "INSERT INTO words (rowid, subject, people, body, names, attached, title) VALUES (?,?,?,?,?,?,?)",
            (row.lastrowid, *texts, title),
        )

    def _forget(self, name: str, digest: str | None) -> None:
        chosen = "SELECT number FROM letter WHERE folder=?" + (" AND digest=?" if digest else "")
        values = (name, digest) if digest else (name,)
        self._base.execute(f"DELETE FROM words WHERE rowid IN ({chosen})", values)
        self._base.execute(f"DELETE FROM letter WHERE number IN ({chosen})", values)
        if not digest:
            self._base.execute("DELETE FROM folder WHERE path=?", (name,))

    def search(self, text: str, folder: str | None = None, most: int = 1000) -> Iterator[Found]:
        """The messages with all words of a text, the best first: each word as the beginning of a word, those in
        quotation marks side by side."""
        query = _query(text)
        if not query:
            return
        within = " AND l.folder=?" if folder is not None else ""
        rows = self._base.execute(
            "SELECT l.folder, l.digest, l.file, l.date, l.sender, l.subject, "
            f"snippet(words, -1, '{_OPEN}', '{_CLOSE}', '\N{HORIZONTAL ELLIPSIS}', 18) "
            f"FROM words JOIN letter l ON l.number=words.rowid WHERE words MATCH ?{within} "
            "ORDER BY bm25(words, 8, 4, 1, 4, 1, 4) LIMIT ?",
            (query, *((folder,) if folder is not None else ()), most),
        )
        for name, digest, file, date, sender, subject, place in rows:
            yield Found(name, digest, file, date, sender, subject, tuple(re.split(f"[{_OPEN}{_CLOSE}]", place)))


def _stamp(path: Path) -> str:
    """Changes when an export folder does."""
    try:
        about = (path / MANIFEST).stat()
    except OSError:
        return ""
    return f"{about.st_size}.{about.st_mtime_ns}"


def _to_open(files: list[str]) -> str:
    """The file that a person opens."""
    read_by_people = (".pdf", ".html", ".txt", ".eml")
    return next((file for suffix in read_by_people for file in files if file.endswith(suffix)), files[0])


def _query(text: str) -> str:
    asked = []
    for quoted, word in re.findall(r'"([^"]+)"|(\S+)', text):
        words = re.findall(r"\w+", folded(quoted or word))
        if words:
            asked.append(f'"{" ".join(words)}"' + ("" if quoted else "*"))
    return " ".join(asked)


def words_of(folder: str, files: list[str]) -> tuple[str, ...]:
    """Date, sender, subject, and the words of a message by its files: subject, people, body, the names of its files and
    of what is attached, and the texts of that. Runs in a worker."""
    original = next((file for file in files if file.endswith(".eml")), None)
    if original is None:
        file = next((one for suffix in (".txt", ".html", ".pdf") for one in files if one.endswith(suffix)), "")
        text = _text_of(_bytes(folder, file), Path(file).suffix) if file else ""
        stem = Path(files[0]).stem
        return stem[:10], "", stem, *_clean(stem, "", text[:_MOST_TEXT], "", "")
    data = _bytes(folder, original)
    _, moment, _, _, words = describe(data)
    message = Message(data)
    texts, scans = [], False
    for attachment in message.attachments[:_MOST_ATTACHMENTS]:
        kind = Path(attachment.name).suffix.lower() or attachment.type
        text = _text_of(attachment.content(), kind, attachment.type)
        texts.append(text)
        scans |= not text.strip() and (attachment.type.startswith("image/") or kind == ".pdf")
    pages = next((file for file in files if file.endswith(".pdf")), "")
    if scans and pages:  # what was recognised in them stands in the pages alone
        texts.append(_text_of(_bytes(folder, pages), ".pdf"))
    sender = message.header.sender
    date = moment.astimezone(UTC).isoformat() if moment else ""
    attached = "\n".join(texts)[:_MOST_TEXT]
    subject, people, body, names = words
    names = "\n".join([*dict.fromkeys(Path(file).stem for file in files), names])  # they hold its title
    return date, *_clean(sender.name or sender.address, message.header.subject, subject, people, body, names, attached)


def _bytes(folder: str, file: str) -> bytes:
    """A file of an export folder; no link is followed. Raises OSError."""
    with open_regular(Path(folder, file)) as content:
        return content.read()


def _clean(*texts: str) -> tuple[str, ...]:
    """Texts as SQLite takes them, without what marks a place in them."""
    return tuple(re.sub(f"[{_OPEN}{_CLOSE}]", "", text.encode("utf-8", "replace").decode("utf-8")) for text in texts)


def _text_of(content: bytes, kind: str, media: str = "") -> str:
    """The words of a file, as far as it is read; "" of a kind that has none, or that is damaged."""
    try:
        if kind == ".pdf" or media == "application/pdf":
            return _pdf_text(content)
        if kind == ".docx" or media == DOCX:
            return html_to_text(document_html(content))
        if kind == ".xlsx" or media == XLSX:
            return html_to_text(workbook(content, {})[0])
        if kind in _MARKED_UP or media in (PPTX, ODT, ODS, ODP):
            return _marked_up(content)
        if kind == ".eml" or media == EML:
            return "\n".join(describe(content)[4])
        if kind in (".html", ".htm") or media == "text/html":
            return html_to_text(decode(content, "")[0])
        if kind in (".txt", ".csv", ".md", ".log", ".ics", ".vcf") or media.startswith("text/"):
            return decode(content, "")[0][:_MOST_TEXT]
    except (ValueError, RuntimeError, *UNREADABLE):  # what PDFium and the readers of documents raise for damage
        return ""
    return ""


def _marked_up(content: bytes) -> str:
    """The words of a presentation or an OpenDocument file, from the XML in it."""
    texts = []
    with zipfile.ZipFile(BytesIO(content)) as archive:
        for info in archive.infolist()[:1000]:
            if _WORDS_INSIDE.fullmatch(info.filename) and not out_of_proportion(info.file_size, info.compress_size):
                texts.append(_TAG.sub(" ", archive.read(info).decode("utf-8", "replace")))
    return unescape("\n".join(texts))[:_MOST_TEXT]


def _pdf_text(content: bytes) -> str:
    import pypdfium2

    with closing(pypdfium2.PdfDocument(BytesIO(content))) as document:
        pages = (document[number].get_textpage().get_text_range() for number in range(min(len(document), _MOST_PAGES)))
        return "\n".join(pages)[:_MOST_TEXT]
