"""Making a page: one pure function from a message's bytes to the files that are made of it."""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass, field
from datetime import datetime

from wexagraph.errors import PageError
from wexagraph.messages import Message
from wexagraph.messages.filetypes import type_note
from wexagraph.notes import Note
from wexagraph.pages.compose import compose
from wexagraph.pages.finish import Embedded, Record, finish, free_name
from wexagraph.pages.options import PageOptions

_KEPT_WHOLE = ("body-too-long", "header-too-long", "parts-too-many", "nesting-too-deep")
"""Notes on something that is not all on the page: the original is embedded."""


@dataclass(frozen=True)
class Job:
    """What is to be made of one message: `formats` out of pdf, html and text.

    `engine` names the engine for the PDF; `plain` sets the text alone, for a layout that no engine could make.
    `arrival` is the mailbox's date for the message, shown where it has none. Without `convert`, attachments that
    were to be
    made into pages are only described.
    """

    data: bytes
    formats: tuple[str, ...]
    options: PageOptions
    engine: str = "plutoprint"
    plain: bool = False
    arrival: datetime | None = None
    convert: bool = True


@dataclass
class Made:
    """The files by format, files that lie beside them by name, and notes on what differs from the original."""

    files: dict[str, bytes] = field(default_factory=dict)
    beside: dict[str, bytes] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)


def make(job: Job) -> Made:
    """Make the files. Reads no disk, clock or network; the same job gives the same bytes.

    Raises PageError where the engine can't make the PDF.
    """
    message = Message(job.data)
    made = Made()
    if "text" in job.formats:
        from wexagraph.pages.plain import to_text

        made.files["text"] = to_text(message, job.options, job.arrival).encode("utf-8", "replace")
        made.notes += message.notes(plain=True)
    if "html" in job.formats:
        page = compose(message, job.options, arrival=job.arrival, plain=job.plain, screen=True)
        made.files["html"] = page.self_contained().encode("utf-8", "replace")
        made.notes += page.notes
    if "pdf" in job.formats:
        made.files["pdf"] = _pdf(message, job, made)
    if "beside" in job.options.attachments or "zip" in job.options.attachments:
        made.beside = _beside(message, job.options.attachments)
    made.notes = list(dict.fromkeys(made.notes))
    return made


def _beside(message: Message, wanted: tuple[str, ...]) -> dict[str, bytes]:
    """Attachments as files of their own, below "/" for a folder of the message's name, or as one ZIP beside it."""
    taken: set[str] = set()
    files = {free_name(a.name, taken): a.content() for a in message.attachments}
    found = {f"/{name}": content for name, content in files.items()} if "beside" in wanted else {}
    if "zip" in wanted and files:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in files.items():
                archive.writestr(zipfile.ZipInfo(name), content, zipfile.ZIP_DEFLATED)
        found[" attachments.zip"] = out.getvalue()
    return found


def _pdf(message: Message, job: Job, made: Made) -> bytes:
    from wexagraph.pages.engines import engine

    setter, wanted = engine(job.engine), job.options.attachments
    page = compose(message, job.options, arrival=job.arrival, plain=job.plain)
    made.notes += page.notes
    pdf = setter.render(page, job.options)
    if job.options.read_back:
        from wexagraph.pages.reread import read_back

        made.notes += read_back(pdf, page.text)
    attachments, pieces = message.attachments, []
    if wanted != ("none",):
        found = (type_note(a.name, a.type, a.content()) for a in attachments)
        made.notes += [note for note in found if note is not None]
    embedded = attachments if "embed" in wanted else []
    if "pages" in wanted and attachments:
        from wexagraph.pages.converting import Converter

        converter = Converter(job.options, setter)
        pieces = converter.pieces(attachments, pages=job.convert)
        made.notes += converter.notes
        embedded = attachments if "embed" in wanted else [a for a in converter.unconverted if a in attachments]
    told = f"Attached to: {page.title[:200]}"
    files = [Embedded(a.name, a.type, a.content(), told, number=n) for n, a in enumerate(attachments) if a in embedded]
    archival = job.options.archival
    if archival or any(note.code in _KEPT_WHOLE for note in page.notes):
        original = Embedded(
            "original message.eml", "message/rfc822", job.data, "The message as it was received", "Source"
        )
        files.insert(0, original)
    if not files and not pieces:
        return pdf
    try:
        record = Record(page.title, page.author, page.date)
        finished, notes = finish(pdf, files, record, pieces, archival)
    except (ValueError, RuntimeError, MemoryError) as error:
        raise PageError(f"joining failed: {error}") from error
    made.notes += notes
    return finished
