"""Messages on their way into a case, as a source of their own in which each lies by the digest of its bytes; and the
index of which letters lie in which case."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from datetime import UTC
from pathlib import Path
from threading import Lock
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages.conversations import Thread, thread
from wexagraph.output.databases import Form, open_database
from wexagraph.sources.base import WHOLE, Envelope, Leaf, Partition, Source, Wanted, listed

_SCHEMA = """
CREATE TABLE letter (
    reference TEXT, digest TEXT, own INTEGER, PRIMARY KEY (reference, digest)
) WITHOUT ROWID;
CREATE TABLE known (reference TEXT PRIMARY KEY) WITHOUT ROWID;
CREATE INDEX letter_own ON letter (own);
CREATE TABLE answered (id INTEGER, reference TEXT, PRIMARY KEY (id, reference)) WITHOUT ROWID;
"""
_INDEX = Form("the index of what is filed", _SCHEMA)
_MOST_HELD = 256 * 1024 * 1024  # bytes that were read for their digests and are not read again


class Letter(NamedTuple):
    """A message that is to be filed: where it lies in its source, the SHA-256 of its bytes, what its documents are
    called where that is not its subject, and all cases that it goes into."""

    envelope: Envelope
    digest: str
    title: str = ""
    cases: tuple[str, ...] = ()


class Held:
    """The bytes of messages that go into several cases, as far as there is room; others are read again."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self._bytes: dict[str, bytes] = {}
        self._size = 0
        self._reading = Lock()  # cases are filed into at the same time

    def letters(self, envelopes: list[Envelope]) -> Iterator[Letter | tuple[Envelope, MessageError]]:
        """The messages with their digests; or why one can't be read."""
        for envelope, data in self.source.read_many(envelopes):
            if isinstance(data, MessageError):
                yield envelope, data
                continue
            digest = hashlib.sha256(data).hexdigest()
            if digest not in self._bytes and self._size + len(data) <= _MOST_HELD:
                self._bytes[digest] = data
                self._size += len(data)
            yield Letter(envelope, digest)

    def read(self, letter: Letter) -> bytes:
        """The bytes of a message. Raises MessageError, also where the source has other ones by now."""
        data = self._bytes.get(letter.digest)
        if data is None:
            with self._reading:
                data = self.source.read(letter.envelope)
            if hashlib.sha256(data).hexdigest() != letter.digest:
                raise MessageError("it was changed in its mailbox while it was filed. Run the same command again.")
        return data

    def attachments(self, letter: Letter) -> list[Leaf]:
        """What is attached to a message."""
        return listed(self.source.message(self.read(letter)))


class Filing(Source):
    """The messages that go into one case: the same bytes are the same message, wherever they come from."""

    moves = False
    goes_on = True

    def __init__(self, reference: str, letters: list[Letter], held: Held | None) -> None:
        super().__init__(f"case:{reference}", "case")
        self._folder, self.held = reference, held
        if held is not None:
            self.keys, self.sender_keys = held.source.keys, held.source.sender_keys
        self._letters = {_place(letter): letter for letter in letters}

    @property
    def letters(self) -> list[Letter]:
        """The messages, each once."""
        return list(self._letters.values())

    @property
    def digests(self) -> set[str]:
        """The SHA-256 of each."""
        return {letter.digest for letter in self._letters.values()}

    def folders(self) -> list[str]:
        return [self._folder]

    def size(self, folder: str) -> int:
        return sum(letter.envelope.size for letter in self._letters.values())

    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        for place in sorted(self._letters):
            old, digest, *_ = self._letters[place]
            yield Envelope(
                self._folder, place, old.size, old.header, digest, old.flags, old.arrival, "", old.notes, old.bearer
            )

    def read(self, envelope: Envelope) -> bytes:
        assert self.held is not None
        return self.held.read(self._letters[envelope.place])

    def attachments(self, envelope: Envelope) -> list[Leaf]:
        assert self.held is not None
        return self.held.attachments(self._letters[envelope.place])

    def threads(self) -> dict[str, Thread]:
        """How each hangs together with others, by the digests."""
        return {letter.digest: thread(letter.envelope.header) for letter in self._letters.values()}


def _place(letter: Letter) -> str:
    """Where a message lies in a case: by its own date, then its bytes."""
    moment = letter.envelope.header.date()[0]
    return f"{moment.astimezone(UTC):%Y%m%d%H%M%S}-{letter.digest}" if moment else letter.digest


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
