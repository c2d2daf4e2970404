"""A message kept as properties made into RFC 5322 bytes, always the same (`docs/other-mail.md` describes the form)."""

from __future__ import annotations

import binascii
import hashlib
import mimetypes
import re
from collections.abc import Collection
from dataclasses import dataclass
from urllib.parse import quote

from wexagraph.errors import MessageError
from wexagraph.messages.headers import Header
from wexagraph.messages.mapi import rtf
from wexagraph.messages.mapi.fields import header_block, kept_fields, unkept
from wexagraph.messages.mapi.item import Attached, Item
from wexagraph.messages.mapi.objects import described
from wexagraph.messages.mapi.properties import STRING, STRING8, Properties, label_of
from wexagraph.messages.mapi.rtf_html import html_of
from wexagraph.notes import Note
from wexagraph.text import one_line

MADE_FROM = b"wexagraph-made-from"
"""The field's name, in lower case."""
_NUMBER = re.compile(r"\d{1,9}")
_DIGEST = re.compile(r"[0-9a-f]{64}")
_FORMS = {"msg": "MSG", "pst": "PST", "tnef": "TNEF"}
_CRLF = b"\r\n"
_TYPE = re.compile(r"[a-z0-9][a-z0-9.+_-]{0,60}/[a-z0-9][a-z0-9.+_-]{0,80}")
_CID = re.compile(r"[!-;=?-~]{1,500}")
_NAME = re.compile(r"[A-Za-z0-9 !#$&+.^_`{}~()@,;=\[\]-]{1,70}")
_BY_VALUE, _EMBEDDED, _OBJECT = 1, 5, 6
_MOST_ATTACHMENTS, _MOST_BYTES = 20_000, 1024**3
"""Attachments of a message, and bytes of them together: a damaged or hostile file may name one stream many times."""


class Entity:
    """A MIME entity: the lines of its header, and its body."""

    def __init__(self, header: list[str], body: bytes) -> None:
        self.header, self.body = header, body

    def written(self) -> bytes:
        """Its bytes."""
        return "".join(f"{line}\r\n" for line in self.header).encode("utf-8", "replace") + _CRLF + self.body


def mail_of(item: Item, original: bytes | None = None, met: Collection[str] = ()) -> bytes:
    """The RFC 5322 bytes of a message; `original` are those of the file that it was alone in. `met` is the damage that
    was met on the way, filled while it is read.

    Never fails: what can't be read is left out, and the field Wexagraph-Made-From counts it.
    """
    entity = content_of(item)
    made = not kept_fields(item.properties)
    nameless = unkept(item) if made else 0
    damaged = len({*item.damage, *item.properties.damage, *met})
    digest = hashlib.sha256(original).hexdigest() if original is not None else ""
    own = Origin(item.form, made, nameless, damaged, digest).field()
    return header_block(item) + f"{own}\r\nMIME-Version: 1.0\r\n".encode("ascii") + entity.written()


_ENTITY = re.compile(rb"(?:[\w-]+:[^\r\n]*\r?\n(?:[ \t][^\r\n]*\r?\n)*)*?content-type:", re.IGNORECASE)
"""The header of an entity: its fields, with the content type among them."""
_DELIMITER = re.compile(rb"--([\x21-\x7e][\x20-\x7e]{0,68}[\x21-\x7e]|[\x21-\x7e])[ \t]*\r?\n")


def content_of(item: Item) -> Entity:
    """What a message holds, as one entity: its texts, what these draw, and its attachments."""
    attached = []
    for number, one in enumerate(item.attachments()):
        if number >= _MOST_ATTACHMENTS:
            item.damage.append(f"more than {_MOST_ATTACHMENTS} attachments")
            break
        attached.append(one)
    signed = _signed(item, attached)
    if signed is not None:
        return signed
    plain, html, charset = _texts(item)
    fields, objects = described(item)
    texts = [_text("plain", plain, "utf-8")] if plain or not (html or fields) else []
    if html:
        texts.append(_text("html", html, charset))
    drawn = [one for one in attached if html and _is_drawn(one.properties, html)]
    entity = _joined("alternative", [*texts, *[_text(kind, content, "utf-8") for kind, content in objects]])
    if drawn:
        entity = _joined("related", [entity, *(_attachment(item, one, True) for one in drawn)])
    before = [_text("plain", fields.encode("utf-8", "replace"), "utf-8")] if fields else []
    beside, held = [], 0
    for one in attached:
        if any(one is other for other in drawn):
            continue
        beside.append(_attachment(item, one))
        held += len(beside[-1].body)
        if held > _MOST_BYTES:
            item.damage.append(f"its attachments have more than {_MOST_BYTES} bytes")
            break
    return _joined("mixed", [*before, *([entity] if texts or objects else []), *beside])


def _signed(item: Item, attached: list[Attached]) -> Entity | None:
    """The entity that was signed or encrypted, as it came (RFC 8551, [MS-OXOSMIME]); None for other messages."""
    if not item.kind.startswith("ipm.note.smime") or len(attached) != 1:
        return None
    content = attached[0].properties.binary(0x3701).lstrip()
    if _ENTITY.match(content):
        entity = Entity([], b"")
        entity.written = lambda: content  # type: ignore[method-assign]
        return entity
    if not content:
        return None
    if item.kind.startswith("ipm.note.smime.multipartsigned") and (first := _DELIMITER.match(content)):
        boundary = first[1].decode("latin-1").replace("\\", "\\\\").replace('"', '\\"')
        return Entity([f'Content-Type: multipart/signed;\r\n boundary="{boundary}"'], content)
    header = ['Content-Type: application/pkcs7-mime; name="smime.p7m"', "Content-Transfer-Encoding: base64"]
    return Entity([*header, 'Content-Disposition: attachment; filename="smime.p7m"'], _base64(content))


def _texts(item: Item) -> tuple[bytes, bytes, str]:
    """The plain text in UTF-8, the HTML, and the character set of the HTML ("" where none is told)."""
    properties = item.properties
    plain, html, charset = properties.text(0x1000), b"", ""
    value = properties.values.get(0x1013)
    if value is not None and value.type in (STRING, STRING8):
        html, charset = properties.text(0x1013).encode("utf-8", "replace"), "utf-8"
    elif html := properties.binary(0x1013).rstrip(b"\0"):
        codepage = properties.number(0x3FDE)
        charset = label_of(codepage) if codepage else ""
    packed = properties.binary(0x1009)
    if not html and packed:
        try:
            rich = rtf.unpacked(packed)
        except MessageError as error:
            item.damage.append(str(error))
            rich = b""
        kind, text = rtf.inside(rich)
        if kind == "html":
            html, charset = text.encode("utf-8", "replace"), "utf-8"
        elif kind == "text":
            plain = plain or text
        elif rich and not (properties.number(0x1016) == 1 and plain):
            html, charset = html_of(rich).encode("utf-8", "replace"), "utf-8"
            if not re.search(rb">[^<\s]|<img", html):
                html = b""
    return _lines(plain).encode("utf-8", "replace"), html, charset


def _lines(text: str) -> str:
    """Text with CRLF."""
    return text.replace("\r\n", "\n").replace("\r", "\n").replace("\n", "\r\n")


def _text(kind: str, content: bytes, charset: str) -> Entity:
    parameter = f"; charset={charset}" if charset else ""
    type_, _, method = kind.partition(";")
    media = type_ if "/" in type_ else f"text/{type_}"
    header = [f"Content-Type: {media}{parameter}{';' + method if method else ''}"]
    if content.isascii() and max(map(len, content.split(b"\n")), default=0) < 990 and b"\0" not in content:
        clean = b"\r" not in content.replace(b"\r\n", b"")
        if clean and content.count(b"\n") == content.count(_CRLF):
            return Entity([*header, "Content-Transfer-Encoding: 7bit"], content)
    if media == "text/plain":
        quoted = binascii.b2a_qp(content.replace(_CRLF, b"\n"), istext=True).replace(b"\n", _CRLF)
        return Entity([*header, "Content-Transfer-Encoding: quoted-printable"], quoted)
    return Entity([*header, "Content-Transfer-Encoding: base64"], _base64(content))


def _base64(content: bytes) -> bytes:
    whole = binascii.b2a_base64(content, newline=False)
    return _CRLF.join([whole[at : at + 76] for at in range(0, len(whole), 76)]) + _CRLF


def _joined(kind: str, entities: list[Entity]) -> Entity:
    """One entity of several; its boundary comes of what they hold, so that it is always the same."""
    if len(entities) == 1:
        return entities[0]
    parts = [entity.written() for entity in entities]
    digest = hashlib.blake2b(digest_size=12)
    for part in parts:
        digest.update(part)
    boundary = f"=_{kind}-{digest.hexdigest()}"
    mark = b"--" + boundary.encode("ascii")
    body = b"".join(mark + _CRLF + part + _CRLF for part in parts) + mark + b"--" + _CRLF
    return Entity([f'Content-Type: multipart/{kind};\r\n boundary="{boundary}"'], body)


def _is_drawn(properties: Properties, html: bytes) -> bool:
    """Whether the HTML names an attachment, by its Content-ID or its Content-Location."""
    names = (f"cid:{id}" if (id := properties.text(0x3712).strip("<> ")) else "", properties.text(0x3713))
    return any(name and name.encode("utf-8", "replace") in html for name in names)


def _attachment(item: Item, attached: Attached, drawn: bool = False) -> Entity:
    properties = attached.properties
    name = one_line(properties.text(0x3707, 0x3704, 0x3001)).strip()
    method = properties.number(0x3705, _BY_VALUE)
    if attached.item is not None:
        inner = attached.item()
        disposition = _parameters(
            "Content-Disposition: attachment", "filename", f"{name.removesuffix('.eml')}.eml" if name else ""
        )
        return Entity(["Content-Type: message/rfc822", disposition], mail_of(inner))
    reference = properties.text(0x370D, 0x3708) if method not in (_BY_VALUE, _EMBEDDED, _OBJECT) else ""
    if reference and not properties.binary(0x3701):
        about = _parameters("Content-Type: message/external-body; access-type=URL", "url", one_line(reference))
        return Entity(
            [about], _parameters("Content-Type: application/octet-stream", "name", name).encode() + b"\r\n\r\n"
        )
    content = attached.object() if attached.object is not None else properties.binary(0x3701)
    item.damage += properties.damage
    kind = properties.text(0x370E).strip().lower()
    if not _TYPE.fullmatch(kind) or kind.startswith(("multipart/", "message/")):
        kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
    header = [_parameters(f"Content-Type: {kind}", "name", name), "Content-Transfer-Encoding: base64"]
    id, location = properties.text(0x3712).strip("<> "), properties.text(0x3713)
    if _CID.fullmatch(id):
        header.append(f"Content-ID: <{id}>")
    if _CID.fullmatch(location):
        header.append(f"Content-Location: {location}")
    way = "inline" if drawn else "attachment"
    return Entity([*header, _parameters(f"Content-Disposition: {way}", "filename", name)], _base64(content))


def _parameters(start: str, name: str, value: str) -> str:
    """A field with a parameter: in quotes, or by RFC 2231 where it is long or not ASCII."""
    if not value:
        return start
    if _NAME.fullmatch(value):
        return f'{start};\r\n {name}="{value}"'
    pieces = _pieces("utf-8''" + quote(value, safe="", errors="replace"))
    if len(pieces) == 1:
        return f"{start};\r\n {name}*={pieces[0]}"
    return f"{start};" + ";".join(f"\r\n {name}*{number}*={piece}" for number, piece in enumerate(pieces))


def _pieces(text: str) -> list[str]:
    """An encoded value in pieces of a line each; no byte of it is cut in two."""
    pieces, piece = [], ""
    for code in re.findall(r"%[0-9A-F]{2}|[^%]", text):
        if len(piece) > 60:
            pieces.append(piece)
            piece = ""
        piece += code
    return [*pieces, piece]


@dataclass(frozen=True)
class Origin:
    """What a message was made from: the form; whether its header was made; how many people no address is kept of, and
    how many reasons there are why something can't be read; the SHA-256 of the file that it was alone in."""

    form: str
    header_made: bool = False
    unkept: int = 0
    damaged: int = 0
    sha256: str = ""

    def field(self) -> str:
        """The field, without a line end."""
        values = [self.form]
        values += ["header=made"] * self.header_made
        values += [f"unkept={self.unkept}"] * bool(self.unkept)
        values += [f"damaged={self.damaged}"] * bool(self.damaged)
        values += [f"sha256={self.sha256}"] * bool(self.sha256)
        return f"{MADE_FROM.decode('ascii').title()}: {'; '.join(values)}"

    @classmethod
    def of(cls, header: Header) -> Origin:
        """What the field of a message says; an empty form where there is none that can be read."""
        form, *values = header.text(MADE_FROM).split("; ")
        pairs = dict(value.partition("=")[::2] for value in values)
        unkept, damaged = (pairs.get(name, "") for name in ("unkept", "damaged"))
        digest = pairs.get("sha256", "")
        return cls(
            _FORMS.get(form, ""),
            pairs.get("header") == "made",
            int(unkept) if _NUMBER.fullmatch(unkept) else 0,
            int(damaged) if _NUMBER.fullmatch(damaged) else 0,
            digest if _DIGEST.fullmatch(digest) else "",
        )

    def notes(self) -> list[Note]:
        """What was not kept of the message."""
        notes = [Note("header-made")] if self.header_made else []
        if self.unkept:
            notes.append(Note("address-unkept", str(self.unkept)))
        return [*notes, Note("form-damaged")] if self.damaged else notes
