"""What every source is: folders of messages, read-only, met through a few verbs."""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from types import TracebackType
from typing import TYPE_CHECKING, NamedTuple

from wexagraph.errors import FolderError, MessageError
from wexagraph.messages.dates import parse_date, parse_separator
from wexagraph.messages.headers import Header, header_end
from wexagraph.notes import Note

if TYPE_CHECKING:
    from wexagraph.messages.message import Message
    from wexagraph.messages.mime import Part
    from wexagraph.protection.keys import Keys
    from wexagraph.protection.sender_keys import SenderKeys

# Crockford's base 32 has no letter that reads as a digit; two of its digits at a time are half the work
_DIGITS = "0123456789abcdefghjkmnpqrstvwxyz"
_PAIRS = [first + second for first in _DIGITS for second in _DIGITS]


Partition = tuple[int, int]
WHOLE: Partition = (0, 1)


class Leaf(NamedTuple):
    """An attachment as a listing sees it: its name, its media type, and the part it is, or its bytes by hearsay."""

    name: str
    type: str
    part: Part | None
    declared: int = 0

    @property
    def size(self) -> int:
        """Bytes of its content, or near them where the encoding is damaged or a server told of it."""
        return self.part.size() if self.part is not None else self.declared


class Original(NamedTuple):
    """A file that holds one message in a form that is no RFC 5322: a name for it, its media type, its bytes."""

    name: str
    type: str
    content: bytes


class Wanted(NamedTuple):
    """What a choice asks of a source that can narrow itself: more may come than is wanted, never less.

    `program` is an IMAP SEARCH program (RFC 9051 section 6.4.4), a word an item; one item in bytes may stand last,
    for a text beyond ASCII, in UTF-8. `ids` are the IDs that may be left. `texts`, of a source that finds them itself,
    are what one of must be in the message.
    """

    program: tuple[str | bytes, ...] = ()
    ids: frozenset[str] | None = None
    texts: tuple[str, ...] = ()


@dataclass(slots=True)
class Envelope:
    """A message as its source knows it without reading its body.

    `place` says where in its folder the message lies, and sorts in the folder's own order. `stamp` changes when
    what lies at that place changes. `size` is in bytes. `flags` are IMAP flags and keywords in lower case without
    the backslash. `arrived` is the source's own date for it, or the mbox separator that names it. `trouble` says why
    the message can't be read at all, `notes` what else there is to know of where it comes from, `bearer` the Message-ID
    (or another name) of the message that brought it along.
    """

    folder: str
    place: str
    size: int
    header: Header
    stamp: str = ""
    flags: frozenset[str] = frozenset()
    arrived: datetime | bytes | None = None
    trouble: str = ""
    notes: tuple[Note, ...] = ()
    bearer: bytes = b""

    @property
    def arrival(self) -> datetime | None:
        """The source's own date for the message."""
        if isinstance(self.arrived, bytes):
            self.arrived = parse_separator(self.arrived)
        return self.arrived

    def fingerprint(self) -> str:
        """`stamp`, or where the source knows none, a digest of the header."""
        return self.stamp or hashlib.blake2b(self.header.block, digest_size=8).hexdigest()

    def date(self) -> tuple[datetime | None, list[Note]]:
        """The message's date and notes on where it is from; see `Header.date`."""
        moment, notes = self.header.date()
        return (moment, notes) if moment is not None else self.header.date(self.arrival)

    @property
    def id(self) -> str:
        """The message's handle in its source: ten characters made of its folder and place."""
        digest = hashlib.blake2b(f"{self.folder}\0{self.place}".encode("utf-8", "surrogateescape"), digest_size=10)
        bits = int.from_bytes(digest.digest()[:7], "big") >> 6  # the first fifty
        pairs = _PAIRS
        return (
            pairs[bits >> 40]
            + pairs[bits >> 30 & 1023]
            + pairs[bits >> 20 & 1023]
            + pairs[bits >> 10 & 1023]
            + pairs[bits & 1023]
        )


class Stored(NamedTuple):
    """A message that can be spared at its source: its folder, its place there, the source's stamp on it, and the
    SHA-256 of what is stored."""

    folder: str
    place: str
    stamp: str
    digest: str


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
    address: str = ""
    """What opens it again in another process; the location where that is not told."""
    reopens = False
    """Whether another process may open it again by its location, to read a share of it."""
    searches = False
    """Whether `envelopes` makes something of `wanted`."""
    finds = False
    """Whether it has an index over all words, so that what `Wanted.texts` leaves need not be tested again."""
    lists_apart = False
    """Whether what a message is listed by comes by another way than its bytes, so that the two have to be compared."""
    goes_on = False
    """Whether it brings what is new alone, of a mailbox of which earlier runs have had the rest."""
    moves = True
    """Whether a message may come to lie at another place, as in an mbox that was compacted."""
    troubles: list[Trouble] = field(default_factory=list)
    keys: Keys | None = None
    """What opens and proves protected messages, where that is asked for."""
    sender_keys: SenderKeys | None = None
    """What asks for the keys of sending domains."""

    def __post_init__(self) -> None:
        self.address = self.address or self.location

    def message(self, data: bytes) -> Message:
        """What the bytes of one of its messages mean."""
        from wexagraph.messages.message import Message

        return Message(data, keys=self.keys_for(data))

    def with_header(self, envelope: Envelope, data: bytes) -> Envelope:
        """One of its messages that was listed without a header, with that of its bytes."""
        return replace(envelope, header=Header(data[: header_end(data)]))

    def keys_for(self, data: bytes) -> Keys | None:
        """The keys, with those of the domains that have marked a message."""
        if self.keys is None or self.sender_keys is None:
            return self.keys
        return self.sender_keys.added(self.keys, data)

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
    def size(self, folder: str) -> int:
        """About how many bytes a folder holds, known without reading it; 0 where it is not known."""

    @abstractmethod
    def envelopes(self, folder: str, share: Partition = WHOLE, wanted: Wanted | None = None) -> Iterator[Envelope]:
        """The messages of a folder in its own order, without reading bodies.

        With `wanted`, a source that searches leaves out what is surely not.

        With a share (k, n), the k-th of n parts that follow one another and together are the folder. Raises
        FolderError where the folder can't be read.
        """

    def readable(self, folder: str, envelopes: Iterable[Envelope]) -> Iterator[Envelope]:
        """The envelopes of a folder; where it can't be read, that is a trouble of this folder, and the others go on."""
        try:
            yield from envelopes
        except FolderError as error:
            self.troubles.append(Trouble(folder, error.reason))

    def settle(self) -> None:  # noqa: B027  most sources can't change while they are read
        """At the end of reading: note what was changed meanwhile, so that what was read of it may not be whole."""

    def folder_stamp(self, folder: str) -> str:
        """Equal as long as nothing in the folder changes; "" where that can't be told without reading it."""
        return ""

    def outline(self, folder: str, share: Partition = WHOLE) -> Iterator[Envelope]:
        """The messages of a folder, or of a share of it where the source can be opened again, by place, stamp, size
        and flags; headers may be empty. As quick as can be."""
        return self.envelopes(folder, share)

    def lying(self, folder: str) -> Iterator[Envelope]:
        """The messages of a folder, by what `mark` takes of them alone."""
        return self.outline(folder)

    @abstractmethod
    def read(self, envelope: Envelope) -> bytes:
        """The message's bytes, as they are in the source. Raises MessageError where they can't be had."""

    @abstractmethod
    def attachments(self, envelope: Envelope) -> list[Leaf]:
        """What is attached to the message, by name, type and size."""

    def may_hide(self, envelope: Envelope) -> bool:
        """Whether the message may have files that `attachments` does not tell of, since it was not read for that."""
        return False

    def keep(self, envelope: Envelope, data: bytes) -> None:  # noqa: B027  most sources read as quickly again
        """The bytes of a message were read to choose it, and will be read again soon."""

    def in_mailbox(self, stored: Iterable[Stored]) -> Iterator[Stored]:
        """Messages that are stored, as they lie in the mailbox itself."""
        yield from stored

    def original(self, envelope: Envelope) -> Original | None:
        """The file that a message was made from, where it lies in one alone. Raises MessageError."""
        return None

    def read_many(self, envelopes: Iterable[Envelope]) -> Iterator[tuple[Envelope, bytes | MessageError]]:
        """Bytes of many messages, in their order; a source on a line fetches them in batches."""
        for envelope in envelopes:
            try:
                yield envelope, self.read(envelope)
            except MessageError as error:
                yield envelope, error


def bounded(envelopes: Iterable[Envelope], most: int, most_bytes: int = 2**62) -> Iterator[list[Envelope]]:
    """Envelopes in pieces of one folder each, bounded in number and (but for a single message) in bytes."""
    batch: list[Envelope] = []
    held = 0
    for envelope in envelopes:
        full = held + envelope.size > most_bytes or len(batch) >= most
        if batch and (full or batch[0].folder != envelope.folder):
            yield batch
            batch, held = [], 0
        batch.append(envelope)
        held += envelope.size
    if batch:
        yield batch


def is_of(fields: bytes, data: bytes) -> bool:
    """Whether bytes are those of the message that was listed with these header fields: those that tell one letter from
    another say the same, however a server has spelt and folded them in its list."""
    head = data[: header_end(data)].replace(b"\r\n", b"\n")
    fields = fields.replace(b"\r\n", b"\n")
    if all(line in head for line in fields.split(b"\n")):  # nearly always, and known in a fraction of the time
        return True
    listed, own = Header(fields), Header(head)
    for name in (b"message-id", b"subject"):
        if listed.raw(name) is not None and listed.text(name).split() != own.text(name).split():
            return False
    if listed.raw(b"from") is not None and listed.addresses(b"from") != own.addresses(b"from"):
        return False
    date, own_date = (parse_date((header.raw(b"date") or b"").decode("latin-1")) for header in (listed, own))
    return date is None or date == own_date


def listed(message: Message) -> list[Leaf]:
    """The attachments of a message for a listing."""
    return [Leaf(attachment.name, attachment.type, attachment.part) for attachment in message.attachments]
