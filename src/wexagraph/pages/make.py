"""Making a page: one pure function from a message's bytes to the files that are made of it."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.errors import PageError
from wexagraph.messages.message import Message
from wexagraph.naming.paths import FreeNames
from wexagraph.naming.patterns import Fields
from wexagraph.notes import Note
from wexagraph.pages.composing.header_footer import HeaderFooter, header_footer
from wexagraph.pages.composing.properties import Provenance, Record, described, record
from wexagraph.pages.options import Lock, PageOptions
from wexagraph.pages.pdf.finish import Embedded, finish
from wexagraph.pages.pdf.pieces import Piece

# what sets pages is loaded where pages are made, in the workers
if TYPE_CHECKING:
    from wexagraph.pages.checking.text_check import Written
    from wexagraph.pages.cleaning.pictures import Fetched
    from wexagraph.pages.composing.compose import Page
    from wexagraph.pages.composing.covers import Entry
    from wexagraph.pages.engines import Engine
    from wexagraph.protection.keys import Keys

_KEPT_WHOLE = ("body-too-long", "header-too-long", "parts-too-many", "nesting-too-deep")
"""Notes on something that is not all on the page: the original is embedded."""


@dataclass(frozen=True)
class Job:
    """What is to be made of one message: `formats` out of pdf, html and text.

    `engine` names the engine for the PDF; `plain` sets the text alone, for a layout that no engine could make. `origin`
    says where the message was read. Without `convert`, attachments that were to be made into pages are only described.
    A `part` of a bound PDF gets no cover, no header and footer and no proof of its own; `known` are quotes that stand
    elsewhere in it; the first part comes with the title and the tags of the `whole`. `lock` encrypts the PDF;
    `exported` is the date that a cover tells. `makers` make formats that this module has none for. `fetched` are
    pictures from the network, as far as they were asked for; None where none is to be. `original` is the file that the
    message was made from: name, media type, bytes. `keys` open and prove what is protected.
    """

    data: bytes
    formats: tuple[str, ...]
    options: PageOptions
    engine: str = "plutoprint"
    plain: bool = False
    origin: Provenance = field(default_factory=Provenance)
    convert: bool = True
    part: bool = False
    known: tuple[tuple[str, str], ...] = ()
    whole: tuple[str, tuple[str, ...]] | None = None
    lock: Lock | None = None
    exported: datetime | None = None
    makers: tuple[tuple[str, Maker], ...] = ()
    fetched: tuple[Fetched, ...] | None = None
    original: tuple[str, str, bytes] | None = None
    keys: Keys | None = None

    @property
    def pictures(self) -> dict[str, Fetched]:
        """The pictures from the network, by their addresses."""
        return {one.address: one for one in self.fetched or ()}


@dataclass
class Made:
    """The files by format, files that lie beside them by name, and notes on what differs from the original.

    `entry` and `header_footer` are what contents page, header and footer of a bound PDF tell of a part; `marked` says
    that pages of others stand among its own. `whole` are the properties and header and footer of the bound PDF.
    `remote` are the addresses of pictures that the files would show and that were not asked for yet.
    """

    files: dict[str, bytes] = field(default_factory=dict)
    entry: Entry | None = None
    header_footer: HeaderFooter | None = None
    marked: bool = False
    whole: tuple[Record, HeaderFooter] | None = None
    beside: dict[str, bytes] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)
    remote: tuple[str, ...] = ()

    def wants(self, addresses: tuple[str, ...], job: Job) -> None:
        """Note the addresses of pictures, where they are to be fetched."""
        if job.fetched is not None:
            new = (address for address in addresses if address not in job.pictures)
            self.remote = tuple(dict.fromkeys((*self.remote, *new)))


def make(job: Job) -> Made:
    """Make the files. Reads no disk, clock or network; the same job gives the same bytes.

    Raises PageError where the engine can't make the PDF.
    """
    message = Message(job.data, keys=job.keys)
    made, makers = Made(), _OWN | dict(job.makers)
    for name in job.formats:
        made.files[name] = makers[name](message, job, made)
    if "beside" in job.options.attachments or "zip" in job.options.attachments:
        made.beside = _beside(message, job.options)
    made.notes = list(dict.fromkeys(made.notes))
    return made


Maker = Callable[[Message, Job, Made], bytes]
"""Makes one file of a message, and puts notes on what differs from it into `Made`. Raises PageError."""


def _beside(message: Message, options: PageOptions) -> dict[str, bytes]:
    """Attachments as files of their own, below "/" for a folder of the message's name, or as one ZIP beside it."""
    names = FreeNames()
    named = [(names.give(each.name), each) for each in message.attachments]
    lying = set(options.taken("beside", message.attachments))
    zipped = set(options.taken("zip", message.attachments))
    beside = {f"/{name}": each.content() for name, each in named if each in lying}
    if zipped:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, each in named:
                if each in zipped:
                    archive.writestr(zipfile.ZipInfo(name), each.content(), zipfile.ZIP_DEFLATED)
        beside[" attachments.zip"] = out.getvalue()
    return beside


def to_text(message: Message, job: Job, made: Made) -> bytes:
    """The message as plain text in UTF-8."""
    from wexagraph.pages.composing.plain import to_text

    made.notes += message.notes(plain=True)
    return to_text(message, job.options, job.origin).encode("utf-8", "replace")


def to_html(message: Message, job: Job, made: Made) -> bytes:
    """The message as one HTML file, its pictures inside."""
    from wexagraph.pages.composing.compose import compose

    page = compose(message, job.options, origin=job.origin, plain=job.plain, screen=True, fetched=job.pictures)
    made.notes += page.notes
    made.wants(page.remote, job)
    return page.self_contained().encode("utf-8", "replace")


def to_pdf(message: Message, job: Job, made: Made) -> bytes:
    """The message as a PDF, read back as it is returned. Raises PageError."""
    from wexagraph.pages.engines import engine

    setter = engine(job.engine)
    behind = _behind(message, job, setter)
    attempt = _set(message, job, setter, behind)
    page = attempt.page
    made.notes += [*page.notes, *attempt.notes]
    made.wants(page.remote, job)
    if job.options.attachments != ("none",):
        made.notes += [note for attachment in message.attachments for note in attachment.notes()]
    made.notes += [*behind.notes, *attempt.finishing]
    made.entry = attempt.entry
    if job.part:
        made.marked = bool(behind.pieces)
        fields = _fields(message, job)
        made.header_footer = header_footer(job.options, fields, job.origin.file)
        if job.whole is not None:
            fields = replace(fields, subject=job.whole[0])
            made.whole = record(job.options, fields, job.whole[1]), header_footer(job.options, fields, job.origin.file)
    return attempt.written.pdf


@dataclass(frozen=True)
class _Behind:
    """What stands behind a message in its PDF: pages of attachments, the numbers of those to embed, notes on both."""

    pieces: list[Piece]
    embedded: set[int]
    notes: list[Note]


def _behind(message: Message, job: Job, setter: Engine) -> _Behind:
    attachments = message.attachments
    numbers = {id(attachment): number for number, attachment in enumerate(attachments)}
    embedded = {numbers[id(attachment)] for attachment in job.options.taken("embed", attachments)}
    paged = job.options.taken("pages", attachments)
    if not paged:
        return _Behind([], embedded, [])
    from wexagraph.pages.attachments.convert import Converter

    converter = Converter(job.options, setter, _fields(message, job), job.origin.file, job.part)
    pieces = converter.pieces(paged, pages=job.convert)
    for piece, attachment in zip(pieces, paged, strict=True):
        piece.number = numbers[id(attachment)]
    embedded.update(numbers[id(each)] for each in converter.unconverted if id(each) in numbers)
    return _Behind(pieces, embedded, converter.notes)


@dataclass
class _Attempt:
    """A message set as a PDF in one way: the page, the PDF as it is to be written, the notes of reading it back and of
    finishing it, its row in a contents page, whether its text begins on the second page, and how many
    pages are left empty before a row of a table (`gaps`)."""

    page: Page
    written: Written
    notes: list[Note]
    finishing: list[Note]
    entry: Entry | None
    starts_late: bool = False
    gaps: int = 0


def _finished(
    message: Message, job: Job, setter: Engine, behind: _Behind, page: Page, pdf: bytes
) -> tuple[Written, list[Note], Entry | None]:
    """A page that was set, with all that belongs to its PDF. Raises PageError."""
    from wexagraph.pages.checking.text_check import Written
    from wexagraph.pages.composing.covers import Contents, cover_page, entry

    tr, pieces = job.options.tr, behind.pieces
    description = tr("Attached to: {title}", title=page.record.title[:200])
    files = [
        Embedded(a.name, a.type, a.content(), description, number=n)
        for n, a in enumerate(message.attachments)
        if n in behind.embedded
    ]
    if job.options.archival or any(note.code in _KEPT_WHOLE for note in page.notes):
        received = tr("The message as it was received")
        name, kind, content = job.original or ("original message.eml", "message/rfc822", job.data)
        files.insert(0, Embedded(name, kind, content, received, "Source"))
    cover, row = None if job.part else job.options.cover, None
    if job.part or cover is not None:
        # how many pages a part has, binding finds by itself
        pages = 0 if job.part else _page_count([io.BytesIO(pdf), *(piece.source for piece in _flat(pieces))])
        row = entry(message, job.origin, job.options, pages)
    if not (files or pieces or job.lock or cover):
        return Written(pdf if job.part else described(pdf, page.record)), [], row
    front = b""
    if cover is not None and row is not None:
        title = page.record.title if job.options.title is not None else row.subject
        contents = Contents(title, (row,), job.exported, job.origin.tags)
        front = setter.render(cover_page(cover, contents, job.options, page.record), job.options)
    try:
        finished, notes = finish(
            pdf,
            files,
            page.record,
            pieces,
            archival=job.options.archival and not job.part,
            front=front,
            part=job.part,
            openers=not job.options.archival,
            lock=job.lock,
        )
    except (ValueError, RuntimeError, MemoryError) as error:
        raise PageError(f"joining failed: {error}") from error
    first = _page_count([io.BytesIO(front)]) if front else 0
    count = _page_count([io.BytesIO(pdf)]) if pieces else None
    return Written(finished, job.lock.user if job.lock else "", first, count), notes, row


def _set(message: Message, job: Job, setter: Engine, behind: _Behind) -> _Attempt:
    """The message as a PDF. Where the layout leaves words out, or the first page empty, it is set again with what may
    be the cause taken away."""
    from wexagraph.pages.checking.contrast import gaps, unseen_words
    from wexagraph.pages.checking.text_check import read_back, starts_late
    from wexagraph.pages.cleaning.quirks import Relief
    from wexagraph.pages.composing.compose import compose

    def tried(relief: Relief) -> _Attempt:
        page = compose(
            message,
            job.options,
            origin=job.origin,
            plain=job.plain,
            part=job.part,
            known=dict(job.known),
            fetched=job.pictures,
            relief=relief,
        )
        pdf = setter.render(page, job.options)
        written, finishing, row = _finished(message, job, setter, behind, page, pdf)
        text = page.text if job.options.read_back else None
        notes, pages = read_back(written, text, cuts=page.held)
        late = bool(page.rich and pages) and starts_late(page.rich, pages)
        left = gaps(pdf) if page.rich and len(pages) > 1 and "<table" in page.html else 0
        return _Attempt(page, written, notes, finishing, row, late, left)

    best = tried(Relief.NONE)
    if best.starts_late:
        other = tried(Relief.UNROLLED)
        best = best if other.starts_late or len(other.notes) > len(best.notes) else other
    if not best.starts_late and best.gaps:
        other = tried(Relief.UNROLLED)  # a row is not broken where it would fit on a page of its own
        best = other if len(other.notes) <= len(best.notes) and other.gaps < best.gaps else best
    for relief in (Relief.UNHELD, Relief.FLAT):
        if not (best.page.rich and any(note.code == "words-missing" for note in best.notes)):
            break
        other = tried(relief)
        if _missing(other.notes) < _missing(best.notes):
            best = other
            best.notes.append(Note("layout-simplified", relief.value))
    if best.page.bare and job.options.read_back and (unseen := unseen_words(best.written)):
        other = tried(Relief.BACKED)
        if other.notes == best.notes and unseen_words(other.written) < unseen:
            best = other
            best.notes.append(Note("background-missing"))
    return best


def _missing(notes: list[Note]) -> int:
    """How many words a note says are missing."""
    return sum(int(note.detail.partition(":")[0]) for note in notes if note.code == "words-missing")


def _fields(message: Message, job: Job) -> Fields:
    header, origin = message.header, job.origin
    moment, options = header.date(origin.arrival)[0], job.options
    zone, number = options.timezone(), origin.number
    tags = ", ".join(origin.tags)
    return Fields(
        *(header, origin.folder, origin.id, zone, moment),
        tags=tags,
        number=number,
        case=options.case,
        read=lambda: message,
        tr=options.tr,
    )


def _flat(pieces: Sequence[Piece]) -> Iterator[Piece]:
    for piece in pieces:
        yield piece
        yield from _flat(piece.below)


def _page_count(pdfs: Iterable[io.BytesIO | Path]) -> int:
    import pikepdf

    total = 0
    for pdf in pdfs:
        with pikepdf.open(pdf) as document:
            total += len(document.pages)
    return total


_OWN: dict[str, Maker] = {"pdf": to_pdf, "html": to_html, "text": to_text}
