"""The columns of a table of messages: one list for `list`, `register` and the register beside an export."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from functools import cached_property
from typing import Any

from wexagraph.errors import CallError, MessageError
from wexagraph.messages.conversations import Conversations, thread
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import Header
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import visible_texts
from wexagraph.naming.office_names import NO_NAMES, OfficeNames
from wexagraph.naming.patterns import Fields, TextPattern
from wexagraph.notes import protection_word
from wexagraph.selection.choice import Choice
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope, Partition, Source
from wexagraph.tables.columns import Column, named
from wexagraph.tables.living.keys import message_digest
from wexagraph.tables.living.table import HERE, STATE, Listing, NotTold
from wexagraph.text import lines, one_line, shortened
from wexagraph.work.shares import in_shares, is_worth_shares

_SPACE = re.compile(rb"\s+")
_MOST_TEXT = 1_000_000


@dataclass(frozen=True)
class Filed:
    """What an export has made of a message: its files by their paths, notes, tags, and the case it was filed under."""

    files: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    tags: str = ""
    case: str = ""


@dataclass
class Listed:
    """A message for a table. Moments are told in `zone` (None: each message's own), addresses by the `names` that the
    office has for them. `data` are its bytes where they were read."""

    source: Source
    envelope: Envelope
    zone: tzinfo | None
    data: bytes | MessageError | None = None
    names: OfficeNames = NO_NAMES

    @cached_property
    def message(self) -> Message:
        """The message itself; an empty one where it can't be read."""
        if self.data is None:
            try:
                self.data = self.source.read(self.envelope)
            except MessageError as error:
                self.data = error
        return self.source.message(self.data if isinstance(self.data, bytes) else b"")

    @cached_property
    def text(self) -> str:
        """Its visible text."""
        return lines("\n".join(visible_texts(self.message))[:_MOST_TEXT]).strip()

    @cached_property
    def moment(self) -> datetime | None:
        """When it was written."""
        return self.local(self.envelope.date()[0])

    def local(self, moment: datetime | None) -> datetime | None:
        """A moment in the zone of the table."""
        return in_zone(moment, self.zone) if moment is not None and self.zone is not None else moment

    def people(self, field: bytes) -> str:
        """Those in a field of addresses."""
        return one_line(", ".join(str(self.names.named(one)) for one in self.envelope.header.addresses(field)))

    @property
    def sender(self) -> str:
        """Who wrote it."""
        return one_line(str(self.names.named(self.envelope.header.sender)))

    @cached_property
    def attachments(self) -> list[str]:
        """What is attached to it, by name or type."""
        return [one_line(leaf.name or leaf.type) for leaf in self.source.attachments(self.envelope)]

    def digest(self) -> str:
        """The SHA-256 of its bytes; empty where they can't be read."""
        import hashlib

        self.message  # noqa: B018  reads it
        return hashlib.sha256(self.data).hexdigest() if isinstance(self.data, bytes) else ""

    @property
    def doubles(self) -> str:
        """Where others lie that are the same, where one of each was chosen."""
        return "; ".join(one_line(note.detail) for note in self.envelope.notes if note.code == "double")

    def protection(self, kind: str) -> str:
        """How it is `encrypted`, `signed` or `marked` by a domain, in a word."""
        return protection_word(self.message.notes(), kind)

    def words(self, keywords: bool) -> str:
        """Its flags, or the keywords among them (which a server's own flags are not: RFC 9051 section 2.3.2)."""
        flags = self.envelope.flags
        return one_line(" ".join(sorted(flags - _FLAGS if keywords else flags)))


_FLAGS = frozenset({"seen", "answered", "flagged", "deleted", "draft", "recent"})


def _first_line(listed: Listed) -> str:
    return next((line.strip() for line in listed.text.splitlines() if line.strip() and not line.startswith(">")), "")


COLUMNS: list[Column[Any]] = [
    Column("id", lambda listed: listed.envelope.id, width=12, lasts=False),
    Column("folder", lambda listed: one_line(listed.envelope.folder), width=18, lasts=False),
    Column("date", lambda listed: listed.moment, "moment", 17, lasts=False),
    Column("time", lambda listed: f"{listed.moment:%H:%M}" if listed.moment else None, width=7, lasts=False),
    Column("from", lambda listed: listed.sender, width=34),
    Column("from_address", lambda listed: one_line(listed.envelope.header.sender.address), width=30),
    Column("to", lambda listed: listed.people(b"to"), width=34),
    Column("cc", lambda listed: listed.people(b"cc"), width=34),
    Column("bcc", lambda listed: listed.people(b"bcc"), width=34),
    Column("subject", lambda listed: one_line(listed.envelope.header.subject), width=48),
    Column("size", lambda listed: listed.envelope.size, "number", 11),
    Column("attachments", lambda listed: len(listed.attachments), "number", 15),
    Column("attachment_names", lambda listed: "; ".join(listed.attachments), width=34),
    Column("text", lambda listed: listed.text, width=60, reads=True),
    Column("first_line", lambda listed: one_line(_first_line(listed)), width=48, reads=True),
    Column("message_id", lambda listed: one_line(listed.envelope.header.text(b"message-id")), width=30),
    Column("sha256", lambda listed: listed.digest(), width=20, reads=True),
    Column(
        "doubles", lambda listed: "; ".join(n.detail for n in listed.envelope.notes if n.code == "double"), width=30
    ),
    Column("flags", lambda listed: listed.words(False), width=16, lasts=False),
    Column("keywords", lambda listed: listed.words(True), width=16, lasts=False),
    Column("conversation", lambda listed: listed.conversation, width=12, lasts=False),
    Column("arrived", lambda listed: listed.local(listed.envelope.arrival), "moment", 17, lasts=False),
    Column("tags", lambda listed: listed.filed.tags, width=18, lasts=False),
    Column("case", lambda listed: listed.filed.case, width=12, lasts=False),
    Column("files", lambda listed: "; ".join(listed.filed.files), "link", 48, lasts=False),
    Column("notes", lambda listed: "; ".join(listed.filed.notes), width=34, lasts=False),
    Column("protected", lambda listed: listed.protection("encrypted"), width=12, reads=True, lasts=False),
    Column("signed", lambda listed: listed.protection("signed"), width=16, reads=True, lasts=False),
    Column("sender_mark", lambda listed: listed.protection("marked"), width=16, reads=True, lasts=False),
]
"""All that a table can have of a message: of a `Listed`, or what `_Elsewhere` has. A new column is a line here."""
ONLY_FILED = ("tags", "case", "files", "notes")
"""Columns that tell of an export beside the table."""
NOT_LISTED = (*ONLY_FILED, "conversation")
"""Columns that a message alone does not tell."""
_OURS = {STATE, "key", *(text.casefold() for column in COLUMNS for text in (column.name, column.heading))}
_STATE: Column[Any] = Column(STATE, lambda listed: HERE, width=17, lasts=False)
USUAL = "id,folder,date,from,subject,size,attachments,attachment_names,flags"
"""The columns of a list for programs."""
WORKING = "date,from,to,subject,attachments,folder"
"""The columns of a register that the office works in."""


def column_of(name: str) -> Column[Any]:
    """A column of a register by its name: one of ours, `Name={pattern}`, or one that the office fills. Raises
    CallError."""
    if name == STATE:
        return _STATE
    for column in COLUMNS:
        if column.name == name:
            return column
    return own_column(name)


def own_column(wish: str) -> Column[Any]:
    """A column of the office's own: `Due date` is empty, `Year={date:%Y}` is filled by a pattern. Raises CallError."""
    title, equals, pattern = wish.partition("=")
    title = one_line(title).strip()
    if not title or len(title) > 200:
        raise CallError(f"--column {wish!r}: write a heading, or a heading and a pattern: 'Year={{date:%Y}}'.")
    if title.casefold() in _OURS:
        raise CallError(f"--column {wish!r}: the heading {title!r} is that of a column of ours. Choose another.")
    if not equals:
        return Column(title, lambda listed: None, "own", 18)
    filled = TextPattern(pattern, "pattern of a column")
    return Column(f"{title}={pattern}", lambda listed: filled.fill(_fields(listed)), "text", 18, title, lasts=False)


def _fields(listed: Listed) -> Fields:
    envelope = listed.envelope
    moment = envelope.date()[0]
    return Fields(envelope.header, envelope.folder, envelope.id, listed.zone, moment, names=listed.names)


def columns_named(names: str) -> list[Column[Any]]:
    """The columns of a list. Raises CallError."""
    return named([*COLUMNS, _STATE], names)


def identity(header: Header, otherwise: str) -> bytes:
    """What tells a message from others wherever it lies: the fields of its header that are written once."""
    fields = (header.raw(name) or b"" for name in (b"message-id", b"date", b"from", b"subject"))
    return _SPACE.sub(b" ", b"\n".join(fields)).strip() or otherwise.encode("utf-8", "surrogateescape")


@dataclass(slots=True)
class Row:
    """A message of a register: its values by the names of their columns; `trouble` says why it could not be read,
    `facts` are what an export beside the register knows it by."""

    id: str
    folder: str
    subject: str
    values: dict[str, Any]
    trouble: str = ""
    facts: str = ""

    @staticmethod
    def value(column: Column[Any], row: Row) -> Any:
        """What a column has of it. Raises NotTold where that was not asked, because it lasts."""
        try:
            return row.values[column.name]
        except KeyError:
            raise NotTold from None


def written_by(header: Header) -> list[str]:
    """What a header says of people and subject, for the register: from, to, cc, subject."""
    people = (header.authors, header.addresses(b"to"), header.addresses(b"cc"))
    texts = [shortened(one_line("; ".join(map(str, one))), 8000) if one else "" for one in people]
    return [*texts, shortened(one_line(header.subject), 4000)]


def facts(moment: datetime | None, written: list[str]) -> str:
    """What tells of a message what an export knows of it: its moment in UTC, from, to, cc and subject."""
    return "\x1f".join([moment.astimezone(UTC).isoformat() if moment else "", *written])


def listings(
    source: Source,
    choice: Choice,
    columns: Iterable[Column[Any]],
    zone: tzinfo | None,
    filed: dict[str, Filed] | None = None,
    known: frozenset[str] = frozenset(),
    names: OfficeNames | None = None,
) -> Iterator[Listing]:
    """The chosen messages for a register with those columns, as `Row`s, read no further than they ask for.

    Of those that are `known` by their digests in keys, what lasts is not asked again. `names` are the office's own for
    addresses. A large source is read by several
    processes, which begin at once.
    """
    wanted, names = list(columns), names or NO_NAMES
    headed = [one.name for one in wanted]
    first = _conversations(choice.select(source)) if "conversation" in headed else {}
    made: Iterable[Listing]
    if is_worth_shares(source, choice):
        parts = in_shares(source, choice, listings_of_share, headed, zone, known, names)
        made = (each for part in parts for each in part)
    else:
        made = _listings(source, choice.select(source), wanted, zone, known, names)
    elsewhere = [one for one in wanted if one.name in NOT_LISTED]
    return _with_elsewhere(made, elsewhere, filed or {}, first) if elsewhere else iter(made)


@dataclass(frozen=True)
class _Elsewhere:
    """What a message alone does not tell."""

    filed: Filed
    conversation: str


def _with_elsewhere(
    made: Iterable[Listing], columns: list[Column[Any]], filed: dict[str, Filed], first: dict[str, str]
) -> Iterator[Listing]:
    for listing in made:
        row = listing.thing
        known = _Elsewhere(filed.get(row.facts, Filed()), first.get(row.id, ""))
        row.values |= {one.name: one.value(known) for one in columns}
        yield listing


def listings_of_share(
    location: str,
    choice: Choice,
    folder: str,
    share: Partition,
    columns: list[str],
    zone: tzinfo | None,
    known: frozenset[str],
    names: OfficeNames,
) -> list[Listing]:
    """The messages of a share of a folder for a register; runs in a worker process."""
    source = reopen(location)
    wanted = list(map(column_of, columns))
    return list(_listings(source, choice.of_share(source, folder, share), wanted, zone, known, names))


def _listings(
    source: Source,
    envelopes: Iterable[Envelope],
    columns: list[Column[Any]],
    zone: tzinfo | None,
    known: frozenset[str],
    names: OfficeNames,
) -> Iterator[Listing]:
    wanted = [one for one in columns if one.name not in NOT_LISTED]
    changing = [one for one in wanted if not one.lasts]
    reads, is_filed = any(one.reads for one in wanted), len(wanted) < len(columns)
    for envelope in envelopes:
        message = message_digest(identity(envelope.header, envelope.id))
        listed, trouble = Listed(source, envelope, zone, names=names), ""
        asked = changing if message in known else wanted
        if reads and asked is wanted:
            listed.message  # noqa: B018  reads it
            trouble = str(listed.data) if isinstance(listed.data, MessageError) else ""
        values = {one.name: one.value(listed) for one in asked}
        id = envelope.id if is_filed or trouble else ""
        row = Row(id, envelope.folder, one_line(envelope.header.subject) if trouble else "", values, trouble)
        if is_filed:
            row.facts = facts(envelope.date()[0], written_by(envelope.header))
        yield Listing(message, envelope.folder, row)


def _conversations(envelopes: Iterable[Envelope]) -> dict[str, str]:
    """For each message's ID, that of the first message of its conversation."""
    threads, ids = Conversations(), list[str]()
    for number, envelope in enumerate(envelopes):
        threads.add(number, thread(envelope.header))
        ids.append(envelope.id)
    threads.finish()
    first: dict[Any, str] = {}
    return {id: first.setdefault(threads.root(number), id) for number, id in enumerate(ids)}
