"""What a page to browse tells of each message: its row in the register, its words, its conversation."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import closing
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any
from urllib.parse import quote

from wexagraph.exports.file_words import own_files, words_of
from wexagraph.exports.register import RegisterRow
from wexagraph.messages.conversations import Conversations, Thread, base_subject
from wexagraph.output.databases import Database, Form, open_database
from wexagraph.selection.choice import Facts, in_order
from wexagraph.text import lines, one_line
from wexagraph.work.batches import Batch, ahead
from wexagraph.work.pool import ProcessWorkers

_MOST_TEXT = 30_000
"""So many letters of a message, and of what is attached to it, are searched on the page."""
UNDATED = "undated"
"""Stands for the year of messages without a date."""
_PATIENCE, _BATCH, _LASTING = 60.0, 64, 2048
_NEVER = datetime.min.replace(tzinfo=UTC)
_SCHEMA = "CREATE TABLE words (key TEXT PRIMARY KEY, text TEXT NOT NULL, thread TEXT NOT NULL) WITHOUT ROWID;"
_WORDS = Form("the words of the page to browse", _SCHEMA)


_Words = tuple[str, Thread | None]
_Known = tuple[RegisterRow, str, list[str], _Words | None]


@dataclass(frozen=True, slots=True)
class Entry:
    """A message on the page: its row, its date, its text, and the number of its conversation; where the page is of
    several folders, the one that its files lie `below`, and its case; its `place` in the order that was asked for."""

    row: RegisterRow
    moment: datetime | None
    text: str
    thread: Thread
    conversation: int = 0
    below: str = ""
    case: str = ""
    place: int | None = None

    def path(self, file: str) -> str:
        """A file of the message, from the page."""
        return f"{self.below}/{file}" if self.below else file

    @property
    def year(self) -> str:
        """The year that the register has."""
        return self.row.facts[0][:4] if self.moment is not None else UNDATED

    def as_list(self) -> list[Any]:
        """What the script on the page takes: see `ID` and what follows it in index.js."""
        row = self.row
        date, sender, to, cc, subject = map(one_line, row.facts)
        return [
            f"{self.case} {row.id}" if self.case else row.id,  # one message may lie in two cases
            date,
            sender,
            to,
            subject,
            one_line(row.folder),
            list(map(one_line, row.attachments)),
            list(map(one_line, row.notes)),
            [href(self.path(file)) for file in row.files],
            self.conversation,
            row.size,
            one_line(row.tags),
            cc,
            int(row.outcome == "failed"),
            one_line(self.case),
            *([self.place] if self.place is not None else []),
        ]


def href(path: str) -> str:
    """The address of a file, from the page (RFC 3986): nothing in it is taken for a scheme or a host."""
    return quote(path, safe="/", errors="surrogateescape")


def read_entries(
    folder: Path, rows: Iterable[RegisterRow], jobs: int = 2, tell: Callable[[int], None] = lambda count: None
) -> list[Entry]:
    """The messages of an export folder, each with its words. What was read before is kept in a database of the folder,
    so that only what is new is read. Raises TargetError."""
    return list(_with_words(folder, rows, jobs, tell))


def in_conversations(entries: Iterable[Entry], sort: tuple[str, ...] = ()) -> list[Entry]:
    """Messages in the order of their dates, each with the number of its conversation, and with its place in another
    order, where one is asked for."""
    ordered = sorted(
        entries,
        key=lambda entry: (entry.moment or _NEVER, entry.below, entry.row.folder, entry.row.id, entry.row.digest or ""),
    )
    conversations = Conversations()
    for number, entry in enumerate(ordered):
        conversations.add(number, entry.thread)
    conversations.finish()
    numbers: dict[Any, int] = {}
    places = {id(entry): place for place, entry in enumerate(in_order(ordered, sort, _facts))} if sort else {}
    return [
        replace(
            entry,
            conversation=numbers.setdefault(conversations.root(number), len(numbers)),
            place=places.get(id(entry)),
        )
        for number, entry in enumerate(ordered)
    ]


def _facts(entry: Entry) -> Facts:
    row, moment = entry.row, entry.moment
    date = moment.astimezone(UTC).isoformat() if moment is not None else ""
    return Facts(date, row.facts[1], row.facts[4], row.size, row.folder)


def _with_words(folder: Path, rows: Iterable[RegisterRow], jobs: int, tell: Callable[[int], None]) -> Iterator[Entry]:
    done = 0
    with closing(open_database(folder, "index.sqlite", _WORDS)) as base, ProcessWorkers(jobs, _PATIENCE) as pool:

        def submit(items: list[list[str]]) -> Future[list[_Words]]:
            return pool.submit(words_of_many, str(folder), items)

        def started() -> Iterator[tuple[list[_Known], Batch[list[str], _Words]]]:
            waiting = iter(rows)
            while members := [_known(base, row) for row in islice(waiting, _BATCH)]:
                yield members, Batch(submit, [files for _, _, files, words in members if words is None and files])

        base.ask("BEGIN")
        for members, batch in ahead(started(), 2 * jobs):
            read = iter(batch.results(lambda files, reason: ("", None)))
            for row, key, files, words in members:
                text, thread = words if words is not None else next(read) if files else ("", None)
                thread = thread or _thread_by_subject(row)
                if words is None and files:
                    values = json.dumps([thread.own, thread.refers, thread.subject, thread.answers])
                    base.ask("INSERT OR REPLACE INTO words VALUES (?,?,?)", (key, text, values))
                yield _entry(row, text, thread)
            done += len(members)
            if done % _LASTING < len(members):
                base.commit()
            tell(done)
        base.ask("COMMIT")


def _known(base: Database, row: RegisterRow) -> _Known:
    """A message, the key of its words, the files to read them from, and the words where they were read before."""
    if not row.digest:
        return row, "", [], None
    files = own_files(row.files)
    key = f"{row.digest} {' '.join(sorted({Path(file).suffix for file in files}))}"
    kept = base.ask("SELECT text, thread FROM words WHERE key=?", (key,)).fetchone()
    if kept is None:
        return row, key, files, None
    own, refers, subject, answers = json.loads(kept[1])
    return row, key, files, (kept[0], Thread(own, tuple(refers), subject, answers))


def words_of_many(folder: str, messages: list[list[str]]) -> list[_Words]:
    """The texts and conversations of messages by their files; runs in a worker. What is gone has no text."""
    return [_words(folder, files) for files in messages]


def _words(folder: str, files: list[str]) -> _Words:
    try:
        words = words_of(folder, files)
    except OSError:
        return "", None
    body = lines(words.body[:_MOST_TEXT]).strip()
    attached = lines(words.attached[:_MOST_TEXT]).strip()
    text = f"{body}\n\n{attached}" if attached else body
    return text.encode("utf-8", "replace").decode("utf-8"), words.thread


def _thread_by_subject(row: RegisterRow) -> Thread:
    subject, answers = base_subject(row.facts[4])
    return Thread(0, (), subject, answers)


def _entry(row: RegisterRow, text: str, thread: Thread) -> Entry:
    date = row.date
    moment = None
    if isinstance(date, datetime):
        moment = date if date.tzinfo is not None else date.replace(tzinfo=UTC)
    return Entry(row, moment, text, thread)
