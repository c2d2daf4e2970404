"""Messages that another one brings along as files: forwarded as attachments, whole and as themselves."""

from __future__ import annotations

from io import BytesIO
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages.blocks import Attachment, HtmlBlock, TextBlock
from wexagraph.messages.forms import FORMS
from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import html_to_text

_TYPES = frozenset({"message/rfc822", "message/global", *(form.type for form in FORMS)})
_SUFFIXES = (".eml", *(form.suffix for form in FORMS))
_SIGNATURE = "-- "


class Carried(NamedTuple):
    """A message that came as a file: its bytes (RFC 5322), and where these were made from another form, that file's
    name, media type and bytes."""

    data: bytes
    name: str = ""
    type: str = ""
    original: bytes = b""


def may_carry(name: str, type: str) -> bool:
    """Whether an attachment of this name and media type may be a message."""
    return type in _TYPES or name.lower().endswith(_SUFFIXES)


def carried_by(message: Message) -> list[Carried]:
    """The messages that one brings along, in their order. What a server sends back with a report is none of them."""
    if message.root.type == "multipart/report":
        return []
    found = (_as_message(each) for each in message.attachments if may_carry(each.name, each.type))
    return [one for one in found if one is not None]


def says_nothing_else(message: Message, carried: int) -> bool:
    """Whether a message is a mere wrapper of the `carried` messages that it brings: no other file, and no word but a
    signature."""
    return len(message.attachments) == carried and not any(map(_words, message.blocks()))


def _as_message(attachment: Attachment) -> Carried | None:
    content = attachment.content()
    for form in FORMS:
        if content.startswith(form.magic) and form.holds(BytesIO(content)):
            try:
                return Carried(form.mail(content), attachment.name, form.type, content)
            except MessageError:
                return None
    header = Header(content[: header_end(content)])
    known = any(header.raw(name) is not None for name in (b"from", b"message-id", b"received"))
    return Carried(content) if known else None


def _words(block: object) -> str:
    if not isinstance(block, TextBlock | HtmlBlock):
        return ""
    text = block.text if isinstance(block, TextBlock) else html_to_text(block.html)
    lines = text.splitlines()
    end = next((number for number, line in enumerate(lines) if line.rstrip() == _SIGNATURE.rstrip()), len(lines))
    return "".join(lines[:end]).strip()
