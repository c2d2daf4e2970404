"""A message made ready for a volume: digested, deflated, named, and what the catalogue wants to know of it.

Runs in workers, many messages at a time.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import UTC, datetime

from wexagraph.deflating import LEVEL, deflate
from wexagraph.errors import MessageError
from wexagraph.messages.dates import in_zone
from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import searched_texts
from wexagraph.naming.paths import clean, component
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope, Partition, Source, listed
from wexagraph.zips import out_of_proportion

_KEPT = frozenset(
    b"date from sender reply-to to cc bcc subject message-id in-reply-to references received content-type".split()
)
_BLANKS = (b" ", b"\t")
_ROOM = 40
_MOST_FIELD = 64_000


@dataclass(slots=True)
class Packed:
    """A message ready for a volume.

    `digest` is the SHA-256 of its bytes, `content` those bytes as they go into a ZIP (`method` 8 deflated, 0 stored),
    `crc` the checksum that a ZIP wants. `stem` names it. `header` is the fields that a listing shows, `leaves` its
    attachments as JSON, `words` its texts for searching: subject, people, text, names of attachments.
    """

    digest: bytes
    size: int
    crc: int
    method: int
    content: bytes
    stem: str
    moment: datetime | None
    header: bytes
    leaves: str
    words: tuple[str, str, str, str]


@dataclass(slots=True)
class Unread:
    """A message that could not be read, and why."""

    reason: str


def pack(data: bytes, arrival: datetime | None = None) -> Packed:
    """Make a message ready. Never fails on content."""
    digest = hashlib.sha256(data).digest()
    content, method = deflate.compress(data, LEVEL, -15), 8
    if len(content) >= len(data) or out_of_proportion(len(data), len(content)):
        content, method = data, 0  # also what nobody would believe when it is to be unpacked
    about = describe(data, arrival)
    return Packed(digest, len(data), deflate.crc32(data), method, content, *about)


def describe(
    data: bytes, arrival: datetime | None = None
) -> tuple[str, datetime | None, bytes, str, tuple[str, str, str, str]]:
    """Stem, date, header, attachments and words of a message."""
    message = Message(data)
    header = message.header
    moment = header.date(arrival)[0]
    sender = clean(header.sender.name or header.sender.address) or "no sender"
    when = f"{in_zone(moment, UTC):%Y-%m-%d %H%M}" if moment else "undated"
    stem = component(f"{when} {sender[:60]} - {clean(header.subject) or 'no subject'}", _ROOM)
    message.blocks()  # read once, for texts and attachments alike
    leaves = listed(message)
    leaves_json = json.dumps([[leaf.name, leaf.type, leaf.size] for leaf in leaves[:500]], ensure_ascii=False)
    return stem, moment, _short_header(header), leaves_json, searched_texts(message, leaves)


def _short_header(header: Header) -> bytes:
    """The fields that a listing shows, as they stand in the message, bounded; of one name, three at most."""
    kept: list[bytes] = []
    counts: dict[bytes, int] = {}
    room = 0
    for line in header.block.split(b"\n"):
        if line[:1] not in _BLANKS:
            name = line.partition(b":")[0].rstrip().lower()
            room = 0
            if name in _KEPT:
                counts[name] = counts.get(name, 0) + 1
                room = _MOST_FIELD if counts[name] <= 3 else 0
        if room > 0:
            kept.append(line[:room])
            room -= len(line) + 1
    return b"\n".join(kept)


def pack_all(batch: list[tuple[bytes, datetime | None]]) -> list[Packed | Unread]:
    """Make many messages ready; runs in a worker."""
    return [pack(data, arrival) for data, arrival in batch]


def pack_share(location: str, folder: str, share: Partition) -> list[tuple[Envelope, Packed | Unread]]:
    """Read and make ready all messages of a share of a folder; runs in a worker. Envelopes come without headers."""
    source = reopen(location)
    packed: list[tuple[Envelope, Packed | Unread]] = []
    for envelope in source.outline(folder, share):
        lean = Envelope(
            folder,
            envelope.place,
            envelope.size,
            Header(b""),
            envelope.fingerprint(),
            envelope.flags,
            envelope.arrival,
            envelope.trouble,
        )
        packed.append((lean, _packed(source, lean)))
    return packed


def pack_from(location: str, wanted: list[tuple[str, str, str, int, datetime | None]]) -> list[Packed | Unread]:
    """Read and make ready many messages (folder, place, stamp, size, arrival) of a source; runs in a worker."""
    source = reopen(location)
    return [
        _packed(source, Envelope(folder, place, size, Header(b""), stamp, arrived=arrival))
        for folder, place, stamp, size, arrival in wanted
    ]


def _packed(source: Source, envelope: Envelope) -> Packed | Unread:
    try:
        return pack(source.read(envelope), envelope.arrival)
    except MessageError as error:
        return Unread(str(error))


def short(data: bytes) -> Header:
    """A header from the catalogue."""
    return Header(data[: header_end(data)])
