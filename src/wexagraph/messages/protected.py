"""Protected parts of a message opened and proved (S/MIME: RFC 8551; OpenPGP: RFC 3156), and the header that stands
inside (RFC 9788, and what came before it)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Protocol, TypeVar

from wexagraph.messages.blocks import TextBlock
from wexagraph.messages.charsets import decode
from wexagraph.messages.headers import Header
from wexagraph.messages.mime import Part, parse, unix_lines
from wexagraph.notes import Note
from wexagraph.protection.certificates import BROKEN
from wexagraph.protection.enveloped import Closed, Damaged, content_info
from wexagraph.protection.keys import Keys, opener
from wexagraph.protection.verdicts import CLOSED, DAMAGED, HOLDS, OPENED, UNKNOWN, Layer, of_pgp, of_smime
from wexagraph.text import one_line

if TYPE_CHECKING:
    from wexagraph.protection.openpgp import PgpSignature

T = TypeVar("T")
_LINE_END = re.compile(rb"\r?\n|\r")
_ARMOUR = re.compile(
    rb"^-----BEGIN PGP (MESSAGE|SIGNED MESSAGE)-----[ \t]*\r?\n.*?^-----END PGP (?:MESSAGE|SIGNATURE)-----[ \t]*\r?$",
    re.MULTILINE | re.DOTALL,
)
_INSIDE = (b"subject", b"to", b"cc", b"date")
"""Fields of a protected header that count. The sender stays who the outer header names."""
_PLACEHOLDERS = frozenset({"", "...", "[...]", "\u2026", "encrypted message", "encrypted e-mail", "p\u2261p"})
_MOST_LAYERS = 100
_LONG_AGO = datetime(1970, 1, 1, tzinfo=UTC)


class Reads(Protocol):
    """What goes through the parts of a message: `whole` is what is all of it, without what is around that; `words` says
    whether texts are wanted, `hint` is a character set that the message names elsewhere."""

    whole: Part | None
    words: bool
    hint: str

    def show(self, part: Part) -> None:
        """Go on with a part."""

    def inner(self, content: bytes, part: Part, whole: bool = False) -> None:
        """Go on with an entity that was inside of a part."""

    def attach_all(self, parts: list[Part]) -> None:
        """Every leaf of these parts is a file."""

    def add_text(self, block: TextBlock, notes: list[Note]) -> None:
        """A text is to be shown."""


class Protection:
    """What the protected parts of a message are opened and proved with, and what was found: a layer each, the outer
    first. Where the innermost of the layers around all of the message has a header of its own, `header` is that."""

    def __init__(self, keys: Keys, outer: Header) -> None:
        self.keys, self._opener, self._outer = keys, opener(keys), outer
        self._senders = [address.address.casefold() for address in outer.addresses(b"from")]
        self._moment = outer.date()[0] or _LONG_AGO
        list_id = outer.text(b"list-id")
        self._lists = f"it came by a list, {one_line(list_id)[:100]}" if list_id else ""
        self.layers: list[Layer] = []
        self.header: Header | None = None
        self.whole = True
        """Whether what is looked at next is all of the message, and not a part beside others."""
        self.partial = False
        """Whether something of the message belongs to no part of it, or stands beside a signature."""

    def show_signed(self, reader: Reads, part: Part) -> None:
        """A multipart/signed (RFC 1847): its signatures are checked over the bytes of the content, which is shown."""
        content, signature, *others = part.children
        self.whole = part is reader.whole
        self.partial |= bool(others)
        check = self.check_pgp if "pgp" in signature.type else self.check_smime
        if check(signature.content(), part.data[content.begin : content.end]) and self.whole:
            content = self.look_inside(content)
        reader.whole = content if part is reader.whole else reader.whole
        reader.show(content)
        reader.attach_all(part.children[1:])

    def show_encrypted(self, reader: Reads, part: Part) -> None:
        """A multipart/encrypted (RFC 3156, section 4): what was inside, where it can be opened."""
        self.whole, last = part is reader.whole, part.children[-1]
        if (opened := self.open_pgp(last.content())) is not None:
            reader.inner(opened, last, whole=part is reader.whole)

    def show_text(self, reader: Reads, part: Part, content: bytes) -> None:
        """A text with OpenPGP in it: what was opened or proved stands by itself, under a label."""
        self.whole = part is reader.whole
        for piece, inside in self._pieces(content):
            text, notes = decode(piece, part.parameters.get("charset", ""), reader.hint)
            if reader.words and text.strip():
                label = "Text that was protected by OpenPGP" if inside else ""
                reader.add_text(TextBlock(unix_lines(text), label=label), notes)

    def open_enveloped(self, data: bytes) -> bytes | None:
        """The entity that S/MIME has encrypted; None where it stays closed, which a layer says."""
        found = self._open("S/MIME", self._opener.open_enveloped, data)
        if found is None:
            return None
        opened, name = found
        self._add(Layer("encrypted", "S/MIME", OPENED, name, not opened.proved))
        return opened.content

    def _open(self, form: str, call: Callable[[bytes], T], data: bytes) -> T | None:
        """What a call opens; None where that stays closed, which a layer says."""
        try:
            self._check_number()
            return call(data)
        except Closed as error:
            self._closed(form, error)
            return None

    def check_smime(self, signature: bytes, content: bytes | None) -> bool:
        """Check the signatures of a CMS SignedData, over the entity in it or over `content` as it stands in a message.
        Returns whether all of them hold."""
        try:
            self._check_number()
            info = content_info(signature)
            inner = info["content"]["encap_content_info"]["content"].native if content is None else None
            forms = _forms(content) if content is not None else [inner if isinstance(inner, bytes) else b""]
            verdicts = self._opener.check_each(info, forms)
        except (*BROKEN, Closed):
            verdicts = []
        known = self._opener.known
        layers = [of_smime(one, known, self._senders, self._moment, self._lists) for one in verdicts]
        self._add(*(layers or [Layer("signed", "S/MIME", UNKNOWN, "the signature is damaged")]))
        return bool(layers) and all(layer.state == HOLDS for layer in layers)

    def check_pgp(self, signature: bytes, content: bytes) -> bool:
        """Check the signatures of OpenPGP over an entity as it stands in a message. Returns whether all hold."""
        if len(self.layers) >= _MOST_LAYERS:
            return False
        return self._say_pgp(self._opener.check_pgp(_forms(content), signature))

    def open_pgp(self, data: bytes) -> bytes | None:
        """The entity that OpenPGP has encrypted; None where it stays closed. What is signed in it is proved."""
        found = self._open("OpenPGP", self._opener.open_pgp, data)
        if found is None:
            return None
        opened, name = found
        self._add(Layer("encrypted", "OpenPGP", OPENED, name, not opened.proved))
        self._say_pgp(opened.signatures)
        return opened.content

    def _pieces(self, text: bytes) -> Iterator[tuple[bytes, bool]]:
        """A text in pieces: what stands as it came, and what was signed or encrypted in it (True), opened. What stays
        closed stands as it came."""
        at, blocks = 0, list(_ARMOUR.finditer(text))
        outside = b"".join(piece for piece in _ARMOUR.split(text)[:: 1 + _ARMOUR.groups])
        self.whole = self.whole and len(blocks) == 1 and not outside.strip()
        for block in blocks:
            encrypted = block[1] == b"MESSAGE"
            try:
                self._check_number()
                opened, name = self._opener.open_pgp(block[0])
            except Closed as error:
                if encrypted:
                    self._closed("OpenPGP", error)
                else:
                    self._add(Layer("signed", "OpenPGP", UNKNOWN, str(error)))
                continue
            if encrypted:
                self._add(Layer("encrypted", "OpenPGP", OPENED, name, not opened.proved))
            self._say_pgp(opened.signatures)
            yield text[at : block.start()], False
            yield opened.content, True
            at = block.end()
        yield text[at:], False

    def _say_pgp(self, found: list[PgpSignature] | tuple[PgpSignature, ...]) -> bool:
        layers = [of_pgp(one, self._senders, self._lists) for one in found]
        self._add(*layers)
        return bool(layers) and all(layer.state == HOLDS for layer in layers)

    def _check_number(self) -> None:
        """Raise Closed where a message has more protected parts than are looked at."""
        if len(self.layers) >= _MOST_LAYERS:
            raise Closed("there are more protected parts than are opened")

    def _add(self, *layers: Layer) -> None:
        self.layers += [replace(layer, whole=self.whole) for layer in layers]

    def _closed(self, form: str, error: Closed) -> None:
        state = DAMAGED if isinstance(error, Damaged) else CLOSED
        self._add(Layer("encrypted", form, state, str(error)))

    def look_inside(self, payload: Part) -> Part:
        """Take the header inside a payload that was opened or whose signature holds, where it has one. Returns what is
        to be shown of the payload: of a message in the place of a part, that message."""
        if payload.type == "message/rfc822" and payload.parameters.get("forwarded", "").lower() == "no":
            inner, _ = parse(payload.content(), number=payload.number)  # RFC 8551, section 3.1
            self.header = inner.header
            return inner
        stated = payload.parameters
        if "hp" in stated or stated.get("protected-headers", "").lower() == "v1":
            self.header = payload.header
        return payload

    def merged(self) -> Header:
        """The header that counts: of the fields inside those that may, else the outer ones."""
        if self.header is None:
            return self._outer
        inside = {name: value for name in _INSIDE if (value := self.header.raw(name)) is not None}
        return self._outer.replaced(inside) if inside else self._outer

    def notes(self) -> list[Note]:
        """What a page says of all layers, and of the header."""
        notes = [note for layer in self.layers for note in layer.notes()]
        if self.layers and (self.partial or not all(layer.whole for layer in self.layers)):
            notes.append(Note("protection-partial"))
        if self.header is not None:
            outer, inner = self._outer.subject, self.header.subject
            if inner and outer != inner and outer.strip().casefold() not in _PLACEHOLDERS:
                notes.append(Note("header-inside", f"Subject: {one_line(outer)[:120]}"))
            sender = self.header.sender.address.casefold()
            if sender and sender not in self._senders:
                notes.append(Note("header-inside", f"inside, From: {one_line(str(self.header.sender))[:120]}"))
        return notes


def _forms(content: bytes) -> list[bytes]:
    """A signed entity in the forms that it may have had on its way: with the line ends of mail (RFC 8551, section
    3.1.1), as it is, and with an empty line more or less at its end."""
    canonical = _LINE_END.sub(b"\r\n", content)
    forms = [canonical, content, canonical + b"\r\n", canonical.removesuffix(b"\r\n")]
    return list(dict.fromkeys(forms))
