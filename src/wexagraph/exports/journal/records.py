"""The rows of the journal: messages of the plan, and files that were made."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from wexagraph.messages import Header
from wexagraph.messages.conversations import Thread
from wexagraph.notes import Note
from wexagraph.output.target import Target
from wexagraph.sources import Envelope

_APART = "\x1f"  # the unit separator, which no line of text holds


def packed(texts: Iterable[str]) -> str:
    """Lines of text as one, for the journal."""
    return _APART.join(texts)


def unpacked(text: str) -> list[str]:
    """The lines of text that were packed."""
    return text.split(_APART)


UNDER_WAY = "under way"
"""The recipe of a file that is just being put in its place, where its bytes are not the same each time."""


RECOVERED = "recovered"
"""Of files that were made with options that nobody knows any more: an export makes them again, under the same names."""


@dataclass(slots=True)
class PlannedMessage:
    """A message as the plan meets it, and the name it would like. `key` is equal for names that collide.

    `facts` are date, from, to, cc and subject, packed; `notes` are on where its date is from;
    `arrival` is the mailbox's date, kept where the message has none; `date` orders messages that want one name.
    `tags` are joined with commas. `thread` and `bound` are how it hangs together with others, and the
    title and name of a bound PDF that begins with it, where messages are to be bound. `turn` is its number in the run.
    """

    place: str
    fingerprint: str
    id: str
    size: int
    arrival: str | None
    facts: str
    notes: str
    stem: str
    key: str
    date: str
    tags: str = ""
    thread: Thread | None = None
    bound: tuple[str, str] = ("", "")
    turn: int = 0


@dataclass(slots=True)
class MessageRecord:
    """A message as the journal knows it. `digest` is the SHA-256 of its bytes in hexadecimal, once they were read;
    `turn` its number in the last run that met it, which a pattern calls so."""

    number: int
    folder: str
    place: str
    stamp: str
    id: str
    size: int
    digest: str | None
    arrival: str | None = None
    stem: str = ""
    tags: str = ""
    facts: str = ""
    turn: int = 0

    def envelope(self) -> Envelope:
        """The message as its source's `read` takes it."""
        return Envelope(self.folder, self.place, self.size, Header(b""), self.stamp)

    @property
    def moment(self) -> datetime | None:
        """The mailbox's date for the message."""
        return datetime.fromisoformat(self.arrival) if self.arrival else None


def packed_notes(notes: Iterable[Note]) -> str:
    """Notes as the journal has them: JSON."""
    return json.dumps([(note.code, note.detail) for note in notes])


def unpacked_notes(text: str) -> list[Note]:
    """The notes that were packed."""
    return [Note(code, detail) for code, detail in json.loads(text)] if text != "[]" else []


@dataclass(frozen=True, slots=True)
class FileRecord:
    """A file that an export made of a message, or of none (0).

    `recipe` says what it was made with; `modified` is its time in nanoseconds.
    """

    path: str
    message: int
    format: str
    naming: str
    recipe: str
    size: int
    modified: int
    sha256: str
    notes: tuple[Note, ...] = ()

    @classmethod
    def of(cls, row: tuple[Any, ...]) -> FileRecord:
        """A row of the table `file`."""
        return cls(*row[:-1], tuple(unpacked_notes(row[-1])))  # type: ignore[call-arg]

    def is_ours(self, target: Target) -> bool:
        """Whether it may be replaced: of one that was only announced, if it was put too."""
        return self.recipe != UNDER_WAY or target.sha256(self.path) in (None, self.sha256)
