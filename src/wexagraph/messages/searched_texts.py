"""The texts of a message that a search looks through."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Protocol

from wexagraph.messages.message import Message
from wexagraph.messages.mime import Part
from wexagraph.messages.visible_text import visible_texts

_READABLE = re.compile(r"(?m)^(?:SUMMARY|DESCRIPTION|LOCATION|COMMENT)(?:;[^:\n]*)?:(.*(?:\r?\n[ \t].*)*)")
_MOST_TEXT = 400_000
_MOST_ATTACHED_TEXT = 100_000


class _Leaf(Protocol):
    """An attachment: its name, its media type, and its part where that was read."""

    @property
    def name(self) -> str: ...
    @property
    def type(self) -> str: ...
    @property
    def part(self) -> Part | None: ...


def searched_texts(message: Message, leaves: Iterable[_Leaf]) -> tuple[str, str, str, str]:
    """Subject, people, text and names of attachments, bounded; the texts of plain attachments stand with the text."""
    leaves = list(leaves)
    header = message.header
    people = [str(a) for a in (*header.authors, *header.addresses(b"to"), *header.addresses(b"cc"))]
    texts = list(visible_texts(message, _MOST_TEXT))
    for leaf in leaves:
        if leaf.part is not None and leaf.type in ("text/plain", "text/csv", "text/calendar", "text/markdown"):
            content = leaf.part.content()[:_MOST_ATTACHED_TEXT].decode("utf-8", "replace")
            texts.append(_calendar_words(content) if leaf.type == "text/calendar" else content)
    names = "\n".join(leaf.name for leaf in leaves if leaf.name)
    parts = (header.subject, "\n".join(people), "\n".join(texts)[:_MOST_TEXT], names)
    # SQLite takes no lone surrogates
    subject, named, text, attached = (
        part if part.isascii() else part.encode("utf-8", "replace").decode("utf-8") for part in parts
    )
    return subject, named, text, attached


def _calendar_words(content: str) -> str:
    """What a calendar object (RFC 5545) says to a reader: its texts, unfolded, without their escapes."""
    texts = (re.sub(r"\r?\n[ \t]", "", match[1]) for match in _READABLE.finditer(content))
    return "\n".join(re.sub(r"\\([\\;,nN])", lambda m: "\n" if m[1] in "nN" else m[1], text) for text in texts)
