"""`Message`: what a message's bytes mean to a reader. The text to show, its pictures, its attachments."""

from __future__ import annotations

from functools import cached_property

from wexagraph.messages.blocks import Attachment, Block, PictureBlock
from wexagraph.messages.headers import Header
from wexagraph.messages.mime import Part, parse
from wexagraph.messages.reading import Reader, Reading
from wexagraph.notes import Note


class Message:
    """A message read for showing. Building one parses its structure; texts are decoded when they are asked for.

    Never fails on content: whatever is broken is a note.
    """

    def __init__(self, data: bytes, depth: int = 0) -> None:
        self.data = data
        self.root, self.structure_notes = parse(data)
        self.depth = depth

    @property
    def header(self) -> Header:
        return self.root.header

    @cached_property
    def _rich(self) -> Reading:
        return self._read(plain=False)

    @cached_property
    def _plain(self) -> Reading:
        return self._read(plain=True)

    def blocks(self, plain: bool = False) -> list[Block]:
        """What to show, in order. With `plain`, the text alternative is taken wherever there is one."""
        return (self._plain if plain else self._rich).blocks

    def notes(self, plain: bool = False) -> list[Note]:
        return self.structure_notes + (self._plain if plain else self._rich).notes

    @property
    def attachments(self) -> list[Attachment]:
        return self._rich.attachments

    def layout_pictures(self) -> list[Part]:
        """Pictures that the HTML shows in its layout, which are no attachments."""
        attached = {id(attachment.part) for attachment in self._rich.attachments}
        return [part for part in self._rich.pictures if id(part) not in attached]

    def picture(self, reference: str) -> Part | None:
        """The part that `cid:` or a Content-Location names (RFC 2392, RFC 2557), or None."""
        return self._pictures.get(reference)

    @cached_property
    def _pictures(self) -> dict[str, Part]:
        found: dict[str, Part] = {}
        for part in self._rich.pictures:
            if part.content_id:
                found.setdefault("cid:" + part.content_id, part)
            if part.location:
                found.setdefault(part.location, part)
            if part.filename:
                found.setdefault("cid:" + part.filename, part)  # some programs refer to the name
        return found

    def _read(self, plain: bool) -> Reading:
        reader = Reader(plain, self.depth, Message)
        reader.show(self.root)
        reader.strays(self.header)
        reading = reader.reading
        # a picture that the HTML shows is no attachment; all others are
        html = "\n".join(reading.html)
        kept = []
        for attachment in reading.attachments:
            part = attachment.part
            if part in reading.pictures and _is_referred_to(part, html):
                reading.blocks = [b for b in reading.blocks if not (isinstance(b, PictureBlock) and b.part is part)]
            else:
                kept.append(attachment)
        reading.attachments = kept
        return reading


def _is_referred_to(part: Part, html: str) -> bool:
    return any(word and word in html for word in (part.content_id, part.location)) or bool(
        part.filename and "cid:" + part.filename in html
    )
