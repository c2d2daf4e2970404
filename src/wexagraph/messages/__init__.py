"""Bytes to meaning: headers, character sets, structure, the text to show, pictures and attachments."""

from wexagraph.messages.blocks import (
    Attachment,
    Block,
    CalendarBlock,
    HtmlBlock,
    MessageBlock,
    PictureBlock,
    TextBlock,
)
from wexagraph.messages.headers import Address, Header
from wexagraph.messages.message import Message

__all__ = [
    "Address",
    "Attachment",
    "Block",
    "CalendarBlock",
    "Header",
    "HtmlBlock",
    "Message",
    "MessageBlock",
    "PictureBlock",
    "TextBlock",
]
