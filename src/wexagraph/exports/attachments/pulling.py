"""Messages taken apart for their attachments, which are staged; runs in workers."""

from __future__ import annotations

import hashlib
import io
import os
import zipfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

from wexagraph.errors import MessageError
from wexagraph.exports.attachments.documents import ATTACHMENTS_NAME, Paged, Part, Taken, dated, page
from wexagraph.exports.attachments.options import ExtractOptions
from wexagraph.exports.journal.attachments import Entry, Origin
from wexagraph.messages.blocks import Attachment
from wexagraph.messages.filetypes import ZIP, recognise
from wexagraph.messages.headers import Header
from wexagraph.messages.message import Message
from wexagraph.messages.mime import made_part
from wexagraph.naming.paths import clean, folder_path, with_extension
from wexagraph.naming.patterns import Fields
from wexagraph.output.staging import Staged, Stager, stager_at
from wexagraph.selection.criteria import text_matches
from wexagraph.sources import reopen
from wexagraph.sources.base import Envelope
from wexagraph.tables.message_columns import written_by
from wexagraph.temporary import TemporaryFolder
from wexagraph.text import one_line, shortened
from wexagraph.zips import UNREADABLE

_DEEPEST, _MOST_MEMBERS, _MOST_MEMBER_BYTES = 5, 1000, 512 * 1024 * 1024


@dataclass(slots=True)
class Pulled:
    """A message that was read: where it is from, its attachments, each staged where its own bytes are wanted, and its
    PDFs, or its `parts` of PDFs that are bound of several messages. `trouble` says why it could not be read. What is
    `carried` from another machine are the bytes of all that waits, by where it waited there."""

    origin: Origin
    entries: list[Entry] = field(default_factory=list)
    staged: list[Staged | None] = field(default_factory=list)
    paged: list[Paged] = field(default_factory=list)
    parts: list[Part] = field(default_factory=list)
    trouble: str = ""
    carried: dict[str, bytes] = field(default_factory=dict)

    def waiting(self) -> Iterator[Staged | Part]:
        """All that is staged."""
        yield from (staged for staged in self.staged if staged is not None)
        yield from (paged.staged for paged in self.paged if paged.staged is not None)
        yield from self.parts


def pull_many(location: str, work: str, envelopes: list[Envelope], options: ExtractOptions) -> list[Pulled]:
    """Read messages and stage their attachments; runs in a worker. Raises OSError."""
    source = reopen(location)
    stager = stager_at(work)
    pulled = []
    for envelope in envelopes:
        data: bytes | MessageError
        try:
            data = source.read(envelope)
        except MessageError as error:
            data = error
        pulled.append(pull(stager, envelope, data, options))
    return pulled


def pull_read(
    work: str, messages: list[tuple[Envelope, bytes | MessageError]], options: ExtractOptions
) -> list[Pulled]:
    """Stage the attachments of messages that were read; runs in a worker. Raises OSError."""
    stager = stager_at(work)
    return [pull(stager, envelope, data, options) for envelope, data in messages]


def pull_away(messages: list[tuple[Envelope, bytes | MessageError]], options: ExtractOptions) -> list[Pulled]:
    """As `pull_read`, in a worker on another machine: what is staged comes back with it. Raises OSError."""
    with TemporaryFolder() as folder:
        stager, taken = Stager(str(folder)), []
        for envelope, data in messages:
            pulled = pull(stager, envelope, data, options)
            pulled.carried = {each.waiting: Path(each.waiting).read_bytes() for each in pulled.waiting()}
            taken.append(pulled)
        return taken


def land(stager: Stager, pulled: Pulled) -> Pulled:
    """Stage here what was carried from another machine, with the times that it had there. Raises OSError."""
    for each in pulled.waiting() if pulled.carried else ():
        content = pulled.carried[each.waiting]
        each.waiting = stager.stage("", content, False).waiting
        if isinstance(each, Staged):
            os.utime(each.waiting, ns=(each.modified, each.modified))
    pulled.carried = {}
    return pulled


def pull(stager: Stager, envelope: Envelope, data: bytes | MessageError, options: ExtractOptions) -> Pulled:
    """Stage the wanted attachments of a message. Raises OSError."""
    if not envelope.header.block and isinstance(data, bytes):
        envelope.header = Header(data[:65536])
    pulled = Pulled(origin_of(envelope))
    if isinstance(data, MessageError):
        pulled.trouble = str(data)
        return pulled
    pulled.origin.sha256, pulled.origin.size = hashlib.sha256(data).hexdigest(), len(data)
    try:
        _pull(stager, envelope, data, options, pulled)
    except OSError:
        raise
    except Exception as error:  # whatever a message does to what takes it apart, it does to itself only
        return Pulled(pulled.origin, trouble=f"it can't be taken apart: {type(error).__name__}: {error}")
    return pulled


def origin_of(envelope: Envelope) -> Origin:
    """Where a message is from, as the register tells it."""
    header, moment = envelope.header, envelope.date()[0]
    return Origin(
        envelope.folder,
        envelope.place,
        envelope.fingerprint(),
        envelope.id,
        moment.isoformat() if moment else "",
        tuple(written_by(header)),
    )


def _pull(stager: Stager, envelope: Envelope, data: bytes, options: ExtractOptions, pulled: Pulled) -> None:
    origin, moment = pulled.origin, envelope.date()[0]
    keys: Counter[str] = Counter()
    taken: list[Taken] = []
    message = Message(data, keys=options.keys)
    for number, (place, attachment) in enumerate(_all(message, options), 1):
        if not is_wanted(attachment.name, attachment.type, options):
            continue
        content = attachment.content()
        if not _fits(len(content), options):
            continue
        filename, suffix = with_extension(clean(attachment.name))
        fields = Fields(
            *(envelope.header, envelope.folder, envelope.id, options.zone, moment),
            filename=filename,
            type=attachment.type,
            ending=suffix.removeprefix(".").lower(),
            number=number,
            read=lambda: message,
            names=options.names,
        )
        staged = dated(stager.stage("", content, False), moment) if options.native else None
        note = next((note.code for note in attachment.notes()), "")
        name = shortened(one_line(attachment.name), 1000)
        stem = _stem(fields, options)
        key = f"{place}:{name[:200]}"
        keys[key] += 1  # two files written into one text have one place
        key += f"#{keys[key]}" if keys[key] > 1 else ""
        kind = one_line(attachment.type)[:100]
        digest = staged.sha256 if staged is not None else hashlib.sha256(content).hexdigest()
        pulled.entries.append(Entry(origin, key, stem + suffix, name, kind, len(content), digest, note=note))
        pulled.staged.append(staged)
        taken.append((attachment, stem, suffix, fields))
    if options.document is not None and taken:
        together = _stem(replace(taken[0][3], filename=ATTACHMENTS_NAME), options)
        pulled.paged, pulled.parts = page(stager, taken, together, options.document)


def _stem(fields: Fields, options: ExtractOptions) -> str:
    """The path of a file, less its suffix."""
    folder = folder_path(fields.folder, options.flat)
    return f"{folder}/" * bool(folder) + options.pattern.stem(fields)


def _all(
    message: Message, options: ExtractOptions, depth: int = 0, above: str = ""
) -> Iterator[tuple[str, Attachment]]:
    """The attachments of a message in their order, each with its place in the message; on request also those inside
    messages and ZIPs, whose places stand below."""
    attachments = [
        *message.attachments,
        *([Attachment(part) for part in message.layout_pictures()] if options.inline else []),
    ]
    for attachment in attachments:
        place = f"{above}{attachment.part.number}"
        yield place, attachment
        if depth >= _DEEPEST:
            continue
        if options.nested and attachment.type in ("message/rfc822", "message/global"):
            yield from _all(Message(attachment.content(), depth + 1, options.keys), options, depth + 1, f"{place}/")
        elif options.open_zips and recognise(attachment.content()) == ZIP:
            yield from ((f"{above}{member.part.number}", member) for member in _members(attachment))


def _members(attachment: Attachment) -> Iterator[Attachment]:
    """The files of a ZIP that can be read, bounded in number, size and proportion."""
    held = 0
    try:
        archive = zipfile.ZipFile(io.BytesIO(attachment.content()))
    except UNREADABLE:
        return
    for number, info in enumerate(archive.infolist()[:_MOST_MEMBERS], 1):
        held += info.file_size
        if info.is_dir() or held > _MOST_MEMBER_BYTES or info.file_size > 1000 * max(info.compress_size, 1000):
            continue
        try:
            data = archive.read(info)
        except UNREADABLE:
            continue
        name = info.filename.rpartition("/")[2]
        yield Attachment(made_part(data, "application/octet-stream", name, f"{attachment.part.number}.{number}"))


def has_wanted(message: Message, options: ExtractOptions) -> bool:
    """Whether a message has an attachment that would be taken."""
    return any(
        is_wanted(each.name, each.type, options) and _fits(len(each.content()), options)
        for _, each in _all(message, options)
    )


def is_wanted(name: str, type: str, options: ExtractOptions) -> bool:
    """Whether an attachment of this name and media type would be taken."""
    return not options.wanted or any(text_matches(value, name, type) for value in options.wanted)


def _fits(size: int, options: ExtractOptions) -> bool:
    return (options.larger is None or size > options.larger) and (options.smaller is None or size < options.smaller)
