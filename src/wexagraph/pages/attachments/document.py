"""An attachment as a PDF of its own, and what became of it in words."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from dataclasses import dataclass, replace

from wexagraph.messages.blocks import Attachment
from wexagraph.messages.filetypes import PDF, settle
from wexagraph.naming.patterns import Fields
from wexagraph.notes import Note
from wexagraph.pages.attachments.convert import Converter
from wexagraph.pages.composing.properties import Record
from wexagraph.pages.engines import Engine
from wexagraph.pages.options import PageOptions
from wexagraph.pages.pdf.finish import join
from wexagraph.pages.pdf.pieces import Piece

MADE, SEARCHABLE, SEARCHABLE_NOW = "made", "already searchable", "searchable now"
WITHOUT_TEXT, WITHOUT_WORDS, UNMADE = "made, no text in it", "made, no words were recognised in it", "not made"
_SAID = ("attachment-other-type", "text-recognised", "text-unrecognised")
"""Notes that stand elsewhere: beside the attachment itself, or in the state."""
_LETTERS = re.compile(r"\w")


@dataclass
class Document:
    """The pages of an attachment; none where they can't be made, which `state` says in words.

    `words` were recognised in it by a program that is sure of them to `confidence` percent.
    """

    piece: Piece | None
    state: str
    words: int = 0
    confidence: float = 0.0

    def pdf(self, record: Record, archival: bool) -> tuple[bytes, list[Note]]:
        """The pages as a PDF of their own. Raises ValueError or RuntimeError where they can't be joined."""
        assert self.piece is not None
        out = io.BytesIO()
        notes = join([self.piece], record, out, archival)
        return out.getvalue(), notes


def document(
    attachment: Attachment,
    options: PageOptions,
    engine: Engine,
    fields: Fields,
    tell: Callable[[str, int], None] = lambda name, page: None,
) -> Document:
    """Make the pages of an attachment. Never fails on content; `tell` is told of each page that is recognised."""
    # whether a PDF of others conforms shows when it is written: it is no reason to make none of it
    converter = Converter(replace(options, archival=False), engine, fields, tell=tell)
    (piece,) = converter.pieces([attachment])
    if piece.unmade:
        return Document(None, f"{UNMADE}: {piece.unmade}")
    made = Document(piece, MADE)
    kind = settle(attachment.name, attachment.type, attachment.content())
    if piece.scanned is not None and piece.scanned.words:
        made.words, made.confidence = piece.scanned.words, piece.scanned.confidence
        plural = "s" if made.words != 1 else ""
        made.state = f"{SEARCHABLE_NOW}: {made.words} word{plural}, {made.confidence:.0f} %"
    elif kind == PDF and _has_text(piece):
        made.state = SEARCHABLE
    elif kind == PDF or kind.startswith("image/"):
        made.state = WITHOUT_WORDS if options.ocr else WITHOUT_TEXT
    made.state += "".join(f"; {note}" for note in converter.notes if note.code not in _SAID)
    return made


def _has_text(piece: Piece) -> bool:
    import pypdfium2

    try:
        with pypdfium2.PdfDocument(piece.pdf) as pdf:
            return any(_LETTERS.search(page.get_textpage().get_text_range()) for page in pdf)
    except pypdfium2.PdfiumError:
        return False
