"""What every source is: folders of messages, read-only, met through a few verbs."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from types import TracebackType
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"  # Crockford's base 32: no letter that reads as a digit


class Leaf(NamedTuple):
    """An attachment as a listing sees it: name, media type, and bytes (of its content, or near them)."""

    name: str
    type: str
    size: int


@dataclass(slots=True)
class Envelope:
    """A message as its source knows it without reading its body.

    `place` says where in its folder the message lies, and sorts in the folder's own order. `stamp` changes when
    what lies at that place changes. `size` is in bytes. `flags` are IMAP flags and keywords in lower case without
    the backslash. `arrival` is the source's own date for it. `trouble` says why the message can't be read at all.
    """

    folder: str
    place: str
    size: int
    header: Header
    stamp: str
    flags: frozenset[str] = frozenset()
    arrival: datetime | None = None
    trouble: str = ""

    @property
    def id(self) -> str:
        """The message's handle in its source: ten characters made of its folder and place."""
        digest = hashlib.blake2b(f"{self.folder}\0{self.place}".encode("utf-8", "surrogateescape"), digest_size=7)
        number = int.from_bytes(digest.digest(), "big")
        return "".join(_ALPHABET[(number >> shift) & 31] for shift in range(45, -1, -5))


@dataclass
class Trouble:
    """Something in a source that could not be opened; the rest of the source can."""

    where: str
    reason: str


@dataclass
class Source(ABC):
    """A mailbox, opened for reading. Use it as a context manager.

    `location` names it for people and for the journal. `troubles` grows while it is read.
    """

    location: str
    kind: str
    troubles: list[Trouble] = field(default_factory=list)

    def __enter__(self) -> Source:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:  # noqa: B027  a source that holds nothing open has nothing to close
        """Give back what the source holds open."""

    @abstractmethod
    def folders(self) -> list[str]:
        """The names of its folders, `/` between levels, sorted. A mailbox without folders has one, named for itself."""

    @abstractmethod
    def envelopes(self, folder: str) -> Iterator[Envelope]:
        """The messages of a folder in its own order, without reading bodies.

        Raises SourceError where the folder can't be read at all.
        """

    @abstractmethod
    def read(self, envelope: Envelope) -> bytes:
        """The message's bytes, as they are in the source. Raises MessageError where they can't be had."""

    @abstractmethod
    def attachments(self, envelope: Envelope) -> list[Leaf]:
        """What is attached to the message, by name, type and size."""

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        """Bytes of many messages, in their order; a source on a line fetches them in batches."""
        for envelope in envelopes:
            try:
                yield envelope, self.read(envelope)
            except MessageError as error:
                yield envelope, error
