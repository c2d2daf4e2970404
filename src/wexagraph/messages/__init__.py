"""Bytes to meaning: headers, character sets, structure, the text to show, pictures and attachments."""

from wexagraph.messages.headers import Address, Header
from wexagraph.messages.message import (
    Attachment,
    Block,
    HtmlBlock,
    Message,
    MessageBlock,
    PictureBlock,
    TextBlock,
)

__all__ = [
    "Address",
    "Attachment",
    "Block",
    "Header",
    "HtmlBlock",
    "Message",
    "MessageBlock",
    "PictureBlock",
    "TextBlock",
]
