"""`Message`: what a message's bytes mean to a reader. The text to show, its pictures, its attachments."""

from __future__ import annotations

import mimetypes
from dataclasses import dataclass, field
from functools import cached_property

from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.mime import Part, parse
from wexagraph.notes import Note

MAX_NESTED = 12
_SHOWN_PICTURES = {
    "image/png",
    "image/jpeg",
    "image/jpg",
    "image/pjpeg",
    "image/gif",
    "image/webp",
    "image/bmp",
}
_EXTENSIONS = {"message/rfc822": ".eml", "text/plain": ".txt", "image/jpeg": ".jpg", "text/calendar": ".ics"}


@dataclass(frozen=True)
class Attachment:
    """A part that a reader saves as a file: every leaf that is not the text shown."""

    part: Part

    @property
    def type(self) -> str:
        return self.part.type

    @property
    def name(self) -> str:
        """The name it came with, decoded but not safe for a file system; a plain one where it has none."""
        if self.part.filename:
            return self.part.filename
        extension = _EXTENSIONS.get(self.type) or mimetypes.guess_extension(self.type) or ".bin"
        if self.type == "message/rfc822":
            subject = Header(self.part.content()[: header_end(self.part.content())]).subject
            return f"{subject or 'message ' + self.part.number}{extension}"
        return f"part {self.part.number}{extension}"

    @property
    def size(self) -> int:
        """Bytes of its content."""
        return self.part.size()

    def content(self) -> bytes:
        return self.part.content()


@dataclass(frozen=True)
class TextBlock:
    """Plain text to show. `flowed` and `delsp` are its format=flowed parameters (RFC 3676)."""

    text: str
    flowed: bool = False
    delsp: bool = False


@dataclass(frozen=True)
class HtmlBlock:
    """HTML to show, as it came: not clean."""

    html: str
    base: str = ""


@dataclass(frozen=True)
class PictureBlock:
    """A picture that stands between the texts of a message."""

    part: Part


@dataclass(frozen=True)
class MessageBlock:
    """A message inside the message (message/rfc822)."""

    message: Message


Block = TextBlock | HtmlBlock | PictureBlock | MessageBlock


@dataclass
class _Reading:
    blocks: list[Block] = field(default_factory=list)
    attachments: list[Attachment] = field(default_factory=list)
    pictures: list[Part] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    html: list[str] = field(default_factory=list)


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
    def _rich(self) -> _Reading:
        return self._read(plain=False)

    @cached_property
    def _plain(self) -> _Reading:
        return self._read(plain=True)

    def blocks(self, plain: bool = False) -> list[Block]:
        """What to show, in order. With `plain`, the text alternative is taken wherever there is one."""
        return (self._plain if plain else self._rich).blocks

    def notes(self, plain: bool = False) -> list[Note]:
        return self.structure_notes + (self._plain if plain else self._rich).notes

    @property
    def attachments(self) -> list[Attachment]:
        return self._rich.attachments

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

    def _read(self, plain: bool) -> _Reading:
        reading = _Reading()
        _Reader(reading, plain, self.depth).show(self.root)
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


class _Reader:
    def __init__(self, reading: _Reading, plain: bool, depth: int) -> None:
        self.reading, self.plain, self.depth = reading, plain, depth

    def show(self, part: Part) -> None:
        kind = part.type
        if part.children:
            if kind == "multipart/alternative":
                self._alternative(part)
            elif kind == "multipart/related":
                self._related(part)
            elif kind == "multipart/encrypted":
                self.reading.notes.append(Note("encrypted"))
                self._attach_all(part.children)
            else:
                for child in part.children:
                    self.show(child)
        elif self._is_text(part):
            self._text(part)
        else:
            self._leaf(part)

    def _is_text(self, part: Part) -> bool:
        word, _ = part.disposition
        if part.type not in ("text/plain", "text/html", "text/enriched", "text/richtext"):
            return False
        if word == "attachment":
            return False
        return not part.filename or (word == "inline" and not self.reading.blocks)

    def _text(self, part: Part) -> None:
        text, notes = part.text()
        self.reading.notes += notes
        if part.type == "text/html":
            self.reading.html.append(text)
            self.reading.blocks.append(HtmlBlock(text, part.location))
        elif text.strip():
            flowed = part.parameters.get("format", "").lower() == "flowed"
            delsp = part.parameters.get("delsp", "").lower() == "yes"
            self.reading.blocks.append(TextBlock(text, flowed, delsp))

    def _leaf(self, part: Part) -> None:
        if part.type == "application/pkcs7-mime" and "enveloped" in part.parameters.get("smime-type", "enveloped"):
            self.reading.notes.append(Note("encrypted"))
        self.reading.attachments.append(Attachment(part))
        if part.type.startswith("image/"):
            self.reading.pictures.append(part)
            if part.type in _SHOWN_PICTURES and part.disposition[0] != "attachment":
                self.reading.blocks.append(PictureBlock(part))
        elif part.type in ("message/rfc822", "message/global") and part.disposition[0] != "attachment":
            if self.depth >= MAX_NESTED:
                self.reading.notes.append(Note("nesting-too-deep", f"part {part.number[:40]}"))
            else:
                self.reading.blocks.append(MessageBlock(Message(part.content(), self.depth + 1)))

    def _alternative(self, part: Part) -> None:
        wanted = [child for child in part.children if self._can_show(child)]
        chosen = next((c for c in reversed(wanted) if _kind_of(c, self.plain)), None) or (wanted or part.children)[-1]
        for child in part.children:
            if child is chosen:
                self.show(child)
            elif not self._is_other_text(child):
                self._attach_all([child])

    def _can_show(self, part: Part) -> bool:
        if part.children:
            return any(self._can_show(child) for child in part.children)
        return self._is_text(part) and bool(part.data[part.start : part.end].strip())

    def _is_other_text(self, part: Part) -> bool:
        """Another wording of the text shown: left out. Pictures of one come along, since nothing refers to them."""
        leaves = [leaf for leaf in part.walk() if not leaf.children]
        return all(self._is_text(leaf) for leaf in leaves)

    def _related(self, part: Part) -> None:
        start = part.parameters.get("start", "").strip("<> ")
        root = next((c for c in part.children if start and c.content_id == start), part.children[0])
        self.show(root)
        for child in part.children:
            if child is not root:
                self._related_leaf(child)

    def _related_leaf(self, part: Part) -> None:
        for leaf in part.walk():
            if leaf.children:
                continue
            self.reading.attachments.append(Attachment(leaf))
            if leaf.type.startswith("image/") or leaf.content_id:
                self.reading.pictures.append(leaf)

    def _attach_all(self, parts: list[Part]) -> None:
        for part in parts:
            for leaf in part.walk():
                if not leaf.children:
                    self.reading.attachments.append(Attachment(leaf))
                    if leaf.type.startswith("image/"):
                        self.reading.pictures.append(leaf)


def _kind_of(part: Part, plain: bool) -> bool:
    """Whether this alternative holds the wanted kind of text: HTML, or with `plain` the plain text."""
    wanted = "text/plain" if plain else "text/html"
    return any(leaf.type == wanted for leaf in part.walk())
