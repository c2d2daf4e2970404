"""`Message`: what a message's bytes mean to a reader. The text to show, its pictures, its attachments."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import cached_property
from html import unescape
from typing import TYPE_CHECKING
from urllib.parse import unquote

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.messages.blocks import Attachment, Block, PictureBlock
from wexagraph.messages.charsets import unusual
from wexagraph.messages.headers import Header, header_end
from wexagraph.messages.inlined import picture_type
from wexagraph.messages.mime import Part, parse
from wexagraph.messages.reading import Reader, Reading, html_of
from wexagraph.notes import Note

if TYPE_CHECKING:
    from wexagraph.protection.keys import Keys
    from wexagraph.protection.marks import Mark
    from wexagraph.protection.verdicts import Layer

_URL = re.compile(r"""(?i)url\(\s*["']?([^"')]{1,2000})""")
_GONE = re.compile(r"(?i)display\s*:\s*none|visibility\s*:\s*hidden|mso-hide\s*:\s*all")
_PROTECTED = re.compile(rb"(?i)pkcs7|\.p7[mz]|multipart/(?:signed|encrypted)|-----BEGIN PGP")
_LABELS = re.compile(rb"=\?([^?*\s]{2,40})(?:\*[^?]*)?\?[bqBQ]\?")


class Message:
    """A message read for showing. Building one parses its structure; texts are decoded when they are asked for.

    Never fails on content: whatever is broken is a note. With `keys`, what is protected is opened and proved.
    """

    def __init__(self, data: bytes, depth: int = 0, keys: Keys | None = None) -> None:
        self.data, self.keys = data, keys
        self.root, self.structure_notes = parse(data)
        self.depth = depth
        for part in self.root.walk():
            if not part.header.block.isascii():
                part.decode_names(self._hint or self.root.header.charset)

    @cached_property
    def header(self) -> Header:
        """Its header; with keys, that which stands inside what is protected, where it may count."""
        protection = self._listed.protection if self.keys is not None and self.keys.opens else None
        return self.root.header if protection is None else protection.merged()

    @property
    def layers(self) -> list[Layer]:
        """What is to be said of its protection, layer by layer; nothing without keys."""
        protection = self._listed.protection
        return protection.layers if protection is not None else []

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
        told = self.structure_notes + self.root.header.notes() + (self._plain if plain else self._rich).notes
        return told + self._sender_notes() if self.keys is not None and self.keys.marks else told

    @cached_property
    def marks(self) -> list[Mark]:
        """What sending domains put on the message; nothing where that is not asked for."""
        if self.keys is None or not self.keys.marks or not self.root.header.has(b"dkim-signature"):
            return []
        from wexagraph.protection.marks import marks_of

        senders = [one.address.casefold() for one in self.root.header.addresses(b"from")]
        return list(marks_of(self.data, senders, dict(self.keys.senders).get))

    def _sender_notes(self) -> list[Note]:
        """What is to be said of its marks, and what the office's own server wrote."""
        notes = [note for mark in self.marks for note in mark.notes()]
        if self.keys is not None and self.root.header.has(b"arc-seal"):
            from wexagraph.protection.marks import relays_of

            relays = relays_of(self.data, dict(self.keys.senders).get)
            notes += [note for relay in relays for note in relay.notes()]
        if self.keys is not None and self.keys.server:
            from wexagraph.protection.marks import said_by

            fields = map(self.root.header.decoded, self.root.header.all_raw(b"authentication-results"))
            if said := said_by(self.keys.server, fields):
                notes.append(Note("server-said", f"{self.keys.server}: {said}"))
        return notes

    @cached_property
    def _listed(self) -> Reading:
        """Attachments alone, told without decoding what does not decide about them."""
        return self.__dict__["_rich"] if "_rich" in self.__dict__ else self._read(plain=False, words=False)

    @property
    def attachments(self) -> list[Attachment]:
        """Every part that is a file to a reader: all but texts without a name and pictures that a text draws."""
        return self._listed.attachments

    def layout_pictures(self) -> list[Part]:
        """Pictures that the HTML draws, which are no attachments."""
        return list(self._listed.drawn)

    def picture(self, reference: str) -> Part | None:
        """The part that `cid:` or a Content-Location names (RFC 2392, RFC 2557), or None."""
        return self._listed.named.get(normal(reference))

    @cached_property
    def _hint(self) -> str:
        """A character set other than the usual ones that the message names anywhere: what names none may be in it."""
        labels = [label.decode("latin-1") for label in _LABELS.findall(self.root.header.block)]
        return unusual([*labels, *(part.parameters.get("charset", "") for part in self.root.walk())])

    def _read(self, plain: bool, words: bool = True) -> Reading:
        protection = None
        if self.keys is not None and self.keys.opens and may_be_protected(self.data):
            from wexagraph.messages.protected import Protection

            protection = Protection(self.keys, self.root.header)
        reading = Reader(plain, self.depth, words, self._hint, protection).read(self.root)
        reading.named = _named(reading.attachments)
        if reading.named:
            texts = [part for part in reading.html if may_refer(part.text(self._hint)[0], reading.named)]
            wanted = {r for part in texts for r in picture_references(html_of(part, self._hint)[0])}
            parts = {id(part): part for r in wanted if (part := reading.named.get(r)) is not None}
            reading.drawn = [part for part in parts.values() if picture_type(part.content()) is not None]
            gone = {id(part) for part in reading.drawn}
            reading.attachments = [a for a in reading.attachments if id(a.part) not in gone]
            reading.blocks = [b for b in reading.blocks if not (isinstance(b, PictureBlock) and id(b.part) in gone)]
        return reading


def may_be_protected(data: bytes) -> bool:
    """Whether a message may be signed or encrypted, told at a glance."""
    return _PROTECTED.search(data) is not None


def is_one_text(data: bytes) -> bool:
    """Whether a message is surely nothing but one text without a file in it: told at a glance."""
    header = Header(data[: header_end(data)])
    kind = (header.raw(b"content-type") or b"text/plain").lower()
    plain = b"html" not in kind
    return (
        kind.lstrip().startswith((b"text/plain", b"text/html"))
        and b"name" not in kind
        and not header.has(b"content-disposition")
        and not (plain and (b"begin" in data or header.has(b"content-transfer-encoding")))
        and not header.strays()
    )


def _named(attachments: list[Attachment]) -> dict[str, Part]:
    """The parts that a text can refer to, by what it has to write."""
    parts: dict[str, Part] = {}
    for part in (attachment.part for attachment in attachments):
        for name in (part.content_id and f"cid:{part.content_id}", part.location):
            if name:
                parts.setdefault(normal(name), part)
    for part in (attachment.part for attachment in attachments):
        if part.filename:
            parts.setdefault(normal(f"cid:{part.filename}"), part)  # some programs refer to the name
    return parts


def picture_references(html: str) -> set[str]:
    """What the pictures, backgrounds and styles of a text refer to, but for those that its author hid."""
    tree = LexborHTMLParser(html)
    references = {url for sheet in tree.css("style") for url in _URL.findall(sheet.text())}
    for node in tree.css("img[src], [background], [style*='url(' i]"):
        if not _is_hidden(node):
            references.update(_of(node))
    return {normal(reference) for reference in references}


def may_refer(html: str, names: Iterable[str]) -> bool:
    """Whether a text may refer to one of these names, told at a glance: to a Content-ID only where it writes "cid:"."""
    if any(not name.startswith("cid:") for name in names):
        return True
    html = html.lower()
    return "cid:" in (unescape(html) if "&#" in html or "&colon" in html else html)


def _of(node: LexborNode) -> Iterator[str]:
    attributes = node.attributes
    if node.tag == "img":
        yield attributes.get("src") or ""
    yield attributes.get("background") or ""
    yield from _URL.findall(attributes.get("style") or "")


def _is_hidden(node: LexborNode) -> bool:
    above: LexborNode | None = node
    while above is not None:
        if above.tag and above.tag[0] not in "-!_" and _GONE.search(above.attributes.get("style") or ""):
            return True
        above = above.parent
    return False


def normal(reference: str) -> str:
    """A reference as parts are looked up by it: of `cid:`, the scheme in lower case and the ID unquoted and bare."""
    reference = reference.strip()
    scheme, colon, rest = reference.partition(":")
    return f"cid:{unquote(rest).strip('<> ')}" if colon and scheme.lower() == "cid" else reference
