"""What a page to browse tells of each message: its row in the register, its words, its conversation."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import closing
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

from wexagraph.exports.file_words import FileWords, words_of
from wexagraph.exports.register import RegisterRow
from wexagraph.messages.conversations import Conversations, Thread, base_subject
from wexagraph.output.databases import open_database
from wexagraph.text import lines, one_line
from wexagraph.work.pool import ProcessWorkers
from wexagraph.work.workers import WorkerLost

_MOST_TEXT = 30_000
"""So many letters of a message, and of what is attached to it, are searched on the page."""
UNDATED = "undated"
"""Stands for the year of messages without a date."""
_PATIENCE, _BATCH = 60.0, 64
_NEVER = datetime.min.replace(tzinfo=UTC)
_SCHEMA = "CREATE TABLE words (key TEXT PRIMARY KEY, text TEXT NOT NULL, thread TEXT NOT NULL) WITHOUT ROWID;"


@dataclass(frozen=True, slots=True)
class Entry:
    """A message on the page: its row, its date, its text, and the number of its conversation."""

    row: RegisterRow
    moment: datetime | None
    text: str
    thread: Thread
    conversation: int = 0

    @property
    def year(self) -> str:
        """The year that the register has."""
        return self.row.facts[0][:4] if self.moment is not None else UNDATED

    def as_list(self) -> list[Any]:
        """What the script on the page takes: see `ID` and what follows it in index.js."""
        row = self.row
        date, sender, to, cc, subject = map(one_line, row.facts)
        return [
            row.id,
            date,
            sender,
            to,
            subject,
            one_line(row.folder),
            list(map(one_line, row.attachments)),
            list(map(one_line, row.notes)),
            list(map(href, row.files)),
            self.conversation,
            row.size,
            one_line(row.tags),
            cc,
            int(row.outcome == "failed"),
        ]


def href(path: str) -> str:
    """The address of a file, from the page (RFC 3986): nothing in it is taken for a scheme or a host."""
    return quote(path, safe="/", errors="surrogateescape")


def entries_of(
    folder: Path, rows: Iterable[RegisterRow], jobs: int = 2, tell: Callable[[int], None] = lambda count: None
) -> list[Entry]:
    """The messages in the order of their dates, each with its words. What was read before is kept in a database of the
    folder, so that only what is new is read. Raises TargetError."""
    found = list(_with_words(folder, rows, jobs, tell))
    found.sort(key=lambda entry: (entry.moment or _NEVER, entry.row.folder, entry.row.id, entry.row.digest or ""))
    conversations = Conversations()
    for number, entry in enumerate(found):
        conversations.add(number, entry.thread)
    conversations.finish()
    numbers: dict[Any, int] = {}
    return [
        replace(entry, conversation=numbers.setdefault(conversations.root(number), len(numbers)))
        for number, entry in enumerate(found)
    ]


def _with_words(folder: Path, rows: Iterable[RegisterRow], jobs: int, tell: Callable[[int], None]) -> Iterator[Entry]:
    done = 0
    with closing(open_database(folder, "index.sqlite", _SCHEMA)) as base, ProcessWorkers(jobs, _PATIENCE) as pool:
        waiting: list[tuple[RegisterRow, str, Future[FileWords] | tuple[str, Thread]]] = []

        def finish() -> Iterator[Entry]:
            nonlocal done
            base.execute("BEGIN")
            for row, key, words in waiting:
                if isinstance(words, Future):
                    words = _taken(row, words)
                    text, thread = words
                    values = json.dumps([thread.own, thread.refers, thread.subject, thread.answers])
                    base.execute("INSERT OR REPLACE INTO words VALUES (?,?,?)", (key, text, values))
                yield _entry(row, *words)
                done += 1
                tell(done)
            base.execute("COMMIT")
            waiting.clear()

        for row in rows:
            files = [file for file in row.files if not _is_beside(file, row.files)]
            key = f"{row.digest} {' '.join(sorted({Path(file).suffix for file in files}))}"
            known = (
                base.execute("SELECT text, thread FROM words WHERE key=?", (key,)).fetchone() if row.digest else None
            )
            if known is not None:
                own, refers, subject, answers = json.loads(known[1])
                waiting.append((row, key, (known[0], Thread(own, tuple(refers), subject, answers))))
            elif row.digest and files:
                waiting.append((row, key, pool.submit(words_of, str(folder), files)))
            else:
                waiting.append((row, key, ("", _thread_by_subject(row))))
            if len(waiting) >= _BATCH:
                yield from finish()
        yield from finish()


def _is_beside(file: str, files: list[str]) -> bool:
    """Whether a file is an attachment in the folder beside its message."""
    above = file.rpartition("/")[0]
    return any(above and other.rpartition(".")[0] == above for other in files)


def _taken(row: RegisterRow, future: Future[FileWords]) -> tuple[str, Thread]:
    try:
        words = future.result()
    except (WorkerLost, OSError):  # a file that no reader ends, or that is gone: its row is shown all the same
        return "", _thread_by_subject(row)
    body = lines(words.body[:_MOST_TEXT]).strip()
    attached = lines(words.attached[:_MOST_TEXT]).strip()
    text = f"{body}\n\n{attached}" if attached else body
    return text.encode("utf-8", "replace").decode("utf-8"), words.thread or _thread_by_subject(row)


def _thread_by_subject(row: RegisterRow) -> Thread:
    subject, answers = base_subject(row.facts[4])
    return Thread(0, (), subject, answers)


def _entry(row: RegisterRow, text: str, thread: Thread) -> Entry:
    date = row.date
    moment = None
    if isinstance(date, datetime):
        moment = date if date.tzinfo is not None else date.replace(tzinfo=UTC)
    return Entry(row, moment, text, thread)
