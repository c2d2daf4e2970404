"""PDFs of attachments: each by itself, or those of a message or of a type bound into one. Runs in workers."""

from __future__ import annotations

import hashlib
import mimetypes
import os
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from wexagraph.errors import PageError
from wexagraph.messages.blocks import Attachment
from wexagraph.messages.filetypes import DOCX, PPTX, XLSX, settle
from wexagraph.naming.patterns import Fields
from wexagraph.output.staging import Staged, Stager, stager_at
from wexagraph.pages.engines import engine
from wexagraph.pages.options import PageOptions
from wexagraph.text import one_line, shortened

if TYPE_CHECKING:
    from wexagraph.pages.attachments.document import Document
    from wexagraph.pages.composing.properties import Record
    from wexagraph.pages.pdf.pieces import Piece

BINDINGS = ("message", "type")
ORDERS = ("name", "date", "type")
ATTACHMENTS_NAME = "attachments"
"""What stands for the name of a file where a PDF is bound of several."""
_ENDINGS = mimetypes.MimeTypes()  # the same on every machine
for _kind, _ending in ((DOCX, ".docx"), (XLSX, ".xlsx"), (PPTX, ".pptx"), ("text/calendar", ".ics")):
    _ENDINGS.add_type(_kind, _ending)


@dataclass(frozen=True)
class DocumentOptions:
    """How PDFs are made of attachments: on what pages, by which engine, and with which tags.

    `bind` makes one PDF of those of a message or of a type, in the `order` of their names, dates and types, first to
    last; else they stand as their messages do. Where a message has broken its worker, `unmade` says why no PDFs are
    made of its attachments.
    """

    page: PageOptions = field(default_factory=PageOptions)
    engine: str = "plutoprint"
    bind: str = ""
    order: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    unmade: str = ""

    def recipe(self, choosing: str) -> str:
        """Equal for two runs that make the same PDFs of what was chosen in the same way."""
        values = (choosing, self.page, self.engine, self.bind, self.order, self.tags)
        return hashlib.sha256(repr(values).encode("utf-8", "surrogateescape")).hexdigest()[:16]


@dataclass(slots=True)
class Paged:
    """A PDF that is staged (None where none could be made), the path it would like, and what became of each attachment
    that is in it: its place among those of its message, and the words for it."""

    states: dict[int, str]
    wish: str
    staged: Staged | None = None
    words: int = 0
    confidence: float = 0.0


@dataclass(slots=True)
class Part:
    """An attachment's pages in a PDF that is bound of several messages: the file they wait in, their bookmark, what
    they are sorted by, and the media type that they are bound by."""

    number: int
    waiting: str
    bookmark: str
    name: str
    date: str
    type: str
    state: str
    words: int = 0
    confidence: float = 0.0


Taken = tuple[Attachment, str, str, Fields]
"""An attachment, the path that a file of it would like, without its suffix, that suffix, and what names are filled
from."""


def page(
    stager: Stager, taken: Sequence[Taken], together: str, options: DocumentOptions
) -> tuple[list[Paged], list[Part]]:
    """Make and stage the PDFs of a message's attachments, or the parts of what is bound by type. `together` is the path
    that a PDF of all of them would like, less its suffix. Raises OSError."""
    from wexagraph.pages.attachments.document import document
    from wexagraph.pages.composing.properties import record

    paged: list[Paged] = []
    parts: list[Part] = []
    bound: list[tuple[int, Document]] = []
    stems = Counter(stem for _, stem, _, _ in taken)
    for number, (attachment, stem, suffix, fields) in enumerate(taken):
        name = shortened(one_line(attachment.name), 100)
        stager.say(name)
        if options.unmade:
            paged.append(Paged({number: f"not made: {options.unmade}"}, ""))
            continue
        try:
            made = document(
                attachment,
                options.page,
                engine(options.engine),
                fields,
                lambda name, page: stager.say(f"{name}, page {page}"),
            )
        except Exception as error:  # whatever a file does to what makes its PDF, its own bytes are taken all the same
            paged.append(Paged({number: f"not made: {type(error).__name__}: {error}"}, ""))
            continue
        if made.piece is None:
            paged.append(Paged({number: made.state}, ""))
        elif options.bind == "message":
            bound.append((number, made))
        elif options.bind == "type":
            content, _ = made.pdf(record(options.page, fields, options.tags), False)
            staged = stager.stage("", content, False)
            moment = fields.moment.isoformat() if fields.moment else ""
            kind = settle(attachment.name, attachment.type, attachment.content())
            bookmark = f"{moment[:10]} {fields.header.sender.name or fields.header.sender.address}: {name}"
            parts.append(
                Part(number, staged.waiting, bookmark, name, moment, kind, made.state, made.words, made.confidence)
            )
        else:
            state, content = made.state, b""
            wish = stem if stems[stem] == 1 else stem + suffix
            try:
                content, notes = made.pdf(record(options.page, fields, options.tags), options.page.archival)
                state += "".join(f"; {note}" for note in notes)
            except (ValueError, RuntimeError, MemoryError) as error:
                state = f"not made: {error}"
            dated_pdf = dated(stager.stage("", content, False), fields.moment) if content else None
            paged.append(Paged({number: state}, f"{wish}.pdf", dated_pdf, made.words, made.confidence))
    if bound:
        paged.append(_bound(stager, taken, bound, together, options))
    stager.say("")
    return paged, parts


def _bound(
    stager: Stager,
    taken: Sequence[Taken],
    bound: list[tuple[int, Document]],
    together: str,
    options: DocumentOptions,
) -> Paged:
    """The pages of one message's attachments in one PDF."""
    from wexagraph.pages.composing.properties import record

    def key(each: tuple[int, Document]) -> list[str]:
        attachment, _, _, fields = taken[each[0]]
        moment = fields.moment.isoformat() if fields.moment else ""
        return sort_key(options.order, attachment.name, moment, attachment.type)

    bound = sorted(bound, key=key)
    fields = taken[bound[0][0]][3]
    pieces = [made.piece for _, made in bound if made.piece is not None]
    states = {number: made.state for number, made in bound}
    words = sum(made.words for _, made in bound)
    try:
        staged, more = joined(stager, pieces, record(options.page, fields, options.tags), options.page.archival)
    except PageError as error:
        return Paged(dict.fromkeys(states, f"not made: {error}"), "")
    sure = sum(made.words * made.confidence for _, made in bound) / words if words else 0.0
    states = {number: state + more for number, state in states.items()}
    return Paged(states, f"{together}.pdf", dated(staged, fields.moment), words, sure)


def sort_key(order: Iterable[str], name: str, date: str, kind: str) -> list[str]:
    """What an attachment is sorted by, the first of the order first; equal for all where there is no order."""
    values = {"name": name.casefold(), "date": date, "type": kind}
    return [values[word] for word in order]


def joined(stager: Stager, pieces: Sequence[Piece], about: Record, archival: bool) -> tuple[Staged, str]:
    """A PDF of several, staged, and what is to be said of it. Raises PageError where they can't be joined, OSError."""
    from wexagraph.pages.pdf.finish import join

    waiting = stager.free()
    try:
        with open(waiting, "xb") as out:
            notes = join(pieces, about, out, archival)
    except (ValueError, RuntimeError, MemoryError) as error:
        raise PageError(f"joining failed: {error}") from error
    with open(waiting, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    about_file = os.stat(waiting)
    staged = Staged(waiting, "", about_file.st_size, digest, False, about_file.st_mtime_ns)
    return staged, "".join(f"; {note}" for note in notes)


def bind_type(work: str, kind: str, parts: Sequence[Part], options: DocumentOptions) -> tuple[Staged, str]:
    """One PDF of all attachments of a media type; runs in a worker. Raises PageError, OSError."""
    from wexagraph.pages.composing.properties import Record
    from wexagraph.pages.pdf.pieces import Piece

    stager = stager_at(work)
    pieces = [Piece(part.bookmark, Path(part.waiting)) for part in parts]
    about = Record(title=kind, keywords=", ".join(options.tags), language=options.page.language)
    return joined(stager, pieces, about, options.page.archival)


def type_stem(kind: str) -> str:
    """The name of what is bound of a media type, less its suffix: by the ending that its files have, where that is
    known."""
    ending = _ENDINGS.guess_extension(kind) or f".{kind.replace('/', '-')}"
    return f"{ending[1:]} {ATTACHMENTS_NAME}"


def dated(staged: Staged, moment: datetime | None) -> Staged:
    """A staged file with the date of its message as its time. Raises OSError."""
    stamp = moment.timestamp() if moment else -1.0
    if 0 <= stamp < 2**33:
        os.utime(staged.waiting, (stamp, stamp))
        staged.modified = os.stat(staged.waiting).st_mtime_ns
    return staged
