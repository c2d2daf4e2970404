"""What a message is made of for a reader: blocks to show, and attachments."""

from __future__ import annotations

import mimetypes
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wexagraph.messages.filetypes import contradicts
from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.mime import Part
from wexagraph.notes import Note
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys

_EXTENSIONS = {"message/rfc822": ".eml", "text/plain": ".txt", "image/jpeg": ".jpg"}
_NAMES = {
    "application/pgp-signature": "signature.asc",
    "application/pkcs7-signature": "signature.p7s",
    "application/x-pkcs7-signature": "signature.p7s",
    "application/pkcs7-mime": "smime.p7m",
    "application/x-pkcs7-mime": "smime.p7m",
    "message/external-body": "reference.txt",
    "text/calendar": "invitation.ics",
    "text/vcard": "contact.vcf",
    "application/pgp-encrypted": "encrypted version.txt",
}


def plain_name(type: str, number: str, subject: str = "") -> str:
    """A name for a part that came without one. `subject` is that of a message."""
    if type in _NAMES:
        return _NAMES[type]
    extension = _EXTENSIONS.get(type) or mimetypes.guess_extension(type) or ".bin"
    return f"{subject or 'message ' + number if type == 'message/rfc822' else 'part ' + number}{extension}"


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
        subject = ""
        if self.type == "message/rfc822":
            subject = Header(self.part.content()[: header_end(self.part.content())]).subject
        return plain_name(self.type, self.part.number, subject)

    @property
    def size(self) -> int:
        """Bytes of its content."""
        return self.part.size()

    def content(self) -> bytes:
        return self.part.content()

    def notes(self) -> list[Note]:
        """What is wrong with it: it is of another type than it says, or not whole."""
        notes = []
        other = contradicts(self.name, self.type, self.content())
        if other:
            notes.append(Note("attachment-other-type", f"{one_line(self.name)[:80] or 'no name'} is {other}"))
        if self.part.damaged():
            notes.append(
                Note("encoding-damaged", f"{self.part.encoding}, {one_line(self.name)[:80] or self.part.number}")
            )
        return notes


@dataclass(frozen=True)
class TextBlock:
    """Plain text to show. `flowed` and `delsp` are its format=flowed parameters (RFC 3676).

    `label` says what it is where the sender did not write it, `name` which file is meant.
    """

    text: str
    flowed: bool = False
    delsp: bool = False
    label: str = ""
    name: str = ""


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
class CalendarBlock:
    """An invitation or another calendar object (RFC 5545), as it came."""

    part: Part


@dataclass(frozen=True)
class MessageBlock:
    """A message inside the message (message/rfc822): its bytes, how deep it lies in others, and the keys that open what
    is protected in it."""

    data: bytes
    depth: int
    keys: Keys | None = None


Block = TextBlock | HtmlBlock | PictureBlock | CalendarBlock | MessageBlock
