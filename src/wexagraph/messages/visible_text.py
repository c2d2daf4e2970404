"""The text of a message that a reader sees: one text for searching, for quotes, and for whoever wants to read it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Protocol

from wexagraph.messages.blocks import HtmlBlock, MessageBlock, TextBlock
from wexagraph.messages.message import Message
from wexagraph.messages.mime import Part

if TYPE_CHECKING:
    from selectolax.lexbor import LexborNode

_READABLE = re.compile(r"(?m)^(?:SUMMARY|DESCRIPTION|LOCATION|COMMENT)(?:;[^:\n]*)?:(.*(?:\r?\n[ \t].*)*)")
_MOST_TEXT = 400_000
_MOST_ATTACHED_TEXT = 100_000
_BLOCKS = frozenset(
    "address article aside blockquote center dd div dl dt fieldset figure footer form h1 h2 h3 h4 h5 h6 header "
    "hr li main menu nav ol p pre section table tbody tfoot thead tr ul".split()
)
_APART = frozenset({"p", "h1", "h2", "h3", "table", "blockquote"})
_SILENT = frozenset({"head", "script", "style", "template", "title", "svg", "iframe"})
_MOST_DEPTH = 400
_DEEPEST = 5


def visible_texts(message: Message, most: int | None = None, depth: int = 0) -> Iterator[str]:
    """The texts of a message in their order, each cut at `most` characters, and those of the messages inside it, each
    behind its subject."""
    for block in message.blocks():
        if isinstance(block, TextBlock):
            yield block.text[:most]
        elif isinstance(block, HtmlBlock):
            yield html_to_text(block.html[:most], alternatives=False)
        elif isinstance(block, MessageBlock) and depth < _DEEPEST:
            inner = Message(block.data, block.depth, block.keys)
            yield inner.header.subject
            yield from visible_texts(inner, most, depth + 1)


def html_to_text(html: str, alternatives: bool = True) -> str:
    """The words of an HTML body in their order, a line for a block, cells of a row beside each other.

    With `alternatives`, what stands for a picture stands in brackets.
    """
    from selectolax.lexbor import LexborHTMLParser  # a listing needs none of it

    pieces: list[str] = []
    body = LexborHTMLParser(html).body
    if body is not None:
        _collect(body, pieces, False, 0, alternatives)
    text = re.sub(r"[ \t]*\n[ \t]*", "\n", "".join(pieces))
    return re.sub(r"\n{3,}", "\n\n", text).strip()


def _collect(node: LexborNode, pieces: list[str], preformatted: bool, depth: int, alternatives: bool) -> None:
    if depth > _MOST_DEPTH:
        pieces.append(node.text(separator=" "))
        return
    child = node.first_child
    while child is not None:
        tag = child.tag
        if tag == "-text":
            text = child.text_content or ""
            pieces.append(text if preformatted else re.sub(r"[ \t\r\n\f]+", " ", text))
        elif tag == "br":
            pieces.append("\n")
        elif tag == "img" and alternatives:
            alternative = (child.attributes.get("alt") or "").strip()
            pieces.append(f"[{alternative}]" if alternative else "")
        elif tag is not None and tag[0] not in "-!_" and tag not in _SILENT:
            if tag in _BLOCKS:
                pieces.append("\n\n" if tag in _APART else "\n")
            elif tag in ("td", "th"):
                pieces.append("  ")
            if tag == "li":
                pieces.append("- ")
            _collect(child, pieces, preformatted or tag == "pre", depth + 1, alternatives)
            if tag in _BLOCKS:
                pieces.append("\n\n" if tag in _APART else "\n")
        child = child.next


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
