"""Messages on their way into a case, as a source of their own in which each lies by the digest of its bytes."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import UTC
from threading import Lock
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages import Message
from wexagraph.messages.conversations import Thread, thread
from wexagraph.sources import Envelope, Partition, Source
from wexagraph.sources.base import WHOLE, Leaf, Wanted, listed

_MOST_HELD = 256 * 1024 * 1024  # bytes that were read for their digests and are not read again


class Letter(NamedTuple):
    """A message that is to be filed: where it lies in its source, and the SHA-256 of its bytes."""

    envelope: Envelope
    digest: str


class Held:
    """The bytes of messages that go into several cases, as far as there is room; others are read again."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self._bytes: dict[str, bytes] = {}
        self._size = 0
        self._reading = Lock()  # cases are filed into at the same time

    def letters(self, envelopes: list[Envelope]) -> Iterator[Letter | tuple[Envelope, MessageError]]:
        """The messages with their digests; or why one can't be read."""
        for envelope, data in self._source.read_many(envelopes):
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
                data = self._source.read(letter.envelope)
            if hashlib.sha256(data).hexdigest() != letter.digest:
                raise MessageError("it was changed in its mailbox while it was filed. Run the same command again.")
        return data

    def attachments(self, letter: Letter) -> list[Leaf]:
        """What is attached to a message."""
        return listed(Message(self.read(letter)))


class Filing(Source):
    """The messages that go into one case: the same bytes are the same message, wherever they come from."""

    moves = False
    goes_on = True

    def __init__(self, reference: str, letters: list[Letter], held: Held | None) -> None:
        super().__init__(f"case:{reference}", "case")
        self._folder, self.held = reference, held
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
            old, digest = self._letters[place]
            yield Envelope(self._folder, place, old.size, old.header, digest, old.flags, old.arrival)

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
