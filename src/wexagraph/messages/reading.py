"""From the parts of a message to what is shown and what is attached (RFC 2046, 2387, 1847)."""

from __future__ import annotations

import mimetypes
import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from wexagraph.messages.blocks import (
    Attachment,
    Block,
    CalendarBlock,
    HtmlBlock,
    MessageBlock,
    PictureBlock,
    TextBlock,
)
from wexagraph.messages.charsets import decode
from wexagraph.messages.headers import Header
from wexagraph.messages.inlined import InlinedFile, split
from wexagraph.messages.mapi.mail import MADE_FROM, Origin, content_of
from wexagraph.messages.mapi.tnef import MAGIC, TYPES, read_item
from wexagraph.messages.mime import Part, made_part, parse, unix_lines
from wexagraph.notes import Note

if TYPE_CHECKING:
    from wexagraph.messages.protected import Protection

_WORTH = 10_000
"""With fewer tags than this, no depth takes a parser a second."""
_MOST = 400
_LONG_TAG, _MOST_ATTRIBUTES = 10_000, 1000
_NAME = re.compile(r"[a-zA-Z][a-zA-Z0-9]{0,30}")
_TAG = re.compile(r"<(/?)([a-zA-Z][a-zA-Z0-9]*)[^<>]*>")
# void elements, and those whose end tag may be left out (HTML standard, section 13.1.2)
_FLAT = frozenset(
    "area base br col embed hr img input link meta source track wbr "
    "body colgroup dd dt head html li optgroup option p rp rt tbody td tfoot th thead tr".split()
)
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
LABELLED = {
    "message/delivery-status": "Delivery report",
    "message/global-delivery-status": "Delivery report",
    "message/disposition-notification": "Reading report",
    "message/feedback-report": "Feedback report",
    "text/rfc822-headers": "Header of the message reported on",
    "message/external-body": "A file kept elsewhere",
}
"""Parts that are read as text but were not written by the sender, and what stands above them."""
_FILES_OF_TEXT = frozenset({"text/calendar", "text/vcard", "text/x-vcard", "text/directory", "text/rtf", "text/css"})
_DATA_OF_TEXT = frozenset(
    {"text/csv", "text/tab-separated-values", "text/xml", "text/javascript", "text/ecmascript", "text/x-script"}
)
"""Texts for programs: with a name they are files, however they are to be disposed of."""
_SMIME = ("application/pkcs7-mime", "application/x-pkcs7-mime")
_SMIME_NAMES = (".p7m", ".p7z")  # RFC 8551, section 3.2.1: programs that know no such type go by the name
_HABITUAL = re.compile(rb"(?i)mime|multi-?part")  # what programs write before the parts, for readers of 1993
_PREAMBLE = re.compile(rb"(?i)this is a multi-?part message in mime format\.?")
_ARMOUR = re.compile(r"^-----BEGIN PGP ((?:SIGNED )?MESSAGE)-----[ \t]*$", re.MULTILINE)
_ELEMENT = re.compile(r"<[^<>]*>")


def is_shown_text(kind: str) -> bool:
    """Whether parts of a media type are text to show: an unknown text type is plain (RFC 2046 section 4.1.4)."""
    return kind.startswith("text/") and kind not in _FILES_OF_TEXT and kind not in LABELLED


@dataclass
class Reading:
    """What one way through the parts has found. `protection` is what was opened and proved, with keys. `html` are the
    parts that are shown as HTML, `named` what they can refer to, `drawn` what they do draw: the pictures of their
    layout."""

    blocks: list[Block] = field(default_factory=list)
    attachments: list[Attachment] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)
    protection: Protection | None = None
    html: list[Part] = field(default_factory=list)
    named: dict[str, Part] = field(default_factory=dict)
    drawn: list[Part] = field(default_factory=list)


class Reader:
    """Goes through the parts of a message and decides what is shown and what is attached.

    Without `words` only the attachments are wanted, and no text is decoded that does not decide about them. `hint` is a
    character set that the message names elsewhere.
    """

    def __init__(
        self, plain: bool, depth: int, words: bool = False, hint: str = "", protection: Protection | None = None
    ) -> None:
        self.plain, self.depth, self.words, self.hint = plain, depth, words, hint
        self.reading = Reading(protection=protection)
        self.protection = protection
        self.whole: Part | None = None  # what is all of the message, without what is around it

    def read(self, root: Part) -> Reading:
        """Go through all parts of a message."""
        self.whole = root
        self.show(root)
        self.strays(root.header)
        if self.protection is not None:
            self.reading.notes += self.protection.notes()
        return self.reading

    def show(self, part: Part) -> None:
        kind = part.type
        self._outside(part, part.outside[:1], "Text before the parts of the message")
        if part.children:
            if kind == "multipart/alternative":
                self._alternative(part)
            elif kind == "multipart/related":
                self._related(part)
            elif kind == "multipart/signed":
                self._signed(part)
            elif kind == "multipart/encrypted":
                if self.protection is not None and self.depth < MAX_NESTED:
                    self.protection.show_encrypted(self, part)
                else:
                    self.reading.notes.append(Note("encrypted"))
                self.attach_all(part.children)
            else:
                for child in part.children:
                    self.show(child)
        elif self._is_text(part):
            self._text(part)
        else:
            self._leaf(part)
        self._outside(part, part.outside[1:], "Text after the parts of the message")

    def _outside(self, part: Part, stretches: list[tuple[int, int]], label: str) -> None:
        for start, end in stretches:
            words = part.data[start:end].strip()
            if words and not (len(words) < 500 and _HABITUAL.search(words)):
                self._left_over(part.data[start:end], label, part.number)

    def strays(self, header: Header) -> None:
        """What of a message's header is no field, fields that contradict each other, what was not kept of it."""
        if header.has(MADE_FROM):
            self.reading.notes += Origin.of(header).notes()
        stray = header.strays()
        if stray and not _PREAMBLE.fullmatch(stray.strip()):  # it may be all that somebody wrote
            self._left_over(stray, "Lines in the header that are no field", "header")
        repeated = header.repeated(b"from", b"subject", b"date")
        if repeated:
            self.reading.notes.append(Note("field-repeated", ", ".join(repeated)))

    def _left_over(self, content: bytes, label: str, number: str) -> None:
        """What belongs to no part: shown under a label, and kept as a file."""
        if self.protection is not None:
            self.protection.partial = True
        self.reading.notes.append(Note("left-over", label.lower()))
        self.reading.blocks.append(TextBlock(decode(content)[0].strip("\r\n"), label=label))
        self.reading.attachments.append(Attachment(made_part(content, "text/plain", f"{label}.txt", number)))

    def _is_text(self, part: Part) -> bool:
        """Whether a part is a text to show: without a disposition it is, named or not (RFC 2183 section 2.8)."""
        if not is_shown_text(part.type) or part.disposition[0] == "attachment":
            return False
        return not (part.filename and part.type in _DATA_OF_TEXT)

    def _text(self, part: Part) -> None:
        if part.type == "text/html":
            self.reading.html.append(part)
        if part.filename:
            self.reading.attachments.append(Attachment(part))
        if part.type in ("text/html", "text/enriched", "text/richtext"):
            if self.words:
                text, notes = html_of(part, self.hint)
                if "-----BEGIN PGP" in text:
                    self._armoured(_ELEMENT.sub("\n", text))
                self.reading.blocks.append(HtmlBlock(text, part.location))
                self.reading.notes += notes
            return
        flowed = part.parameters.get("format", "").lower() == "flowed"
        delsp = part.parameters.get("delsp", "").lower() == "yes"
        content = part.content()
        if self.protection is not None and b"-----BEGIN PGP" in content:
            self.protection.show_text(self, part, content)
            return
        pieces = split(content)
        for number, piece in enumerate(pieces, 1):
            if isinstance(piece, InlinedFile):
                self._inlined(piece, f"{part.number}.{number}")
                continue
            if not self.words:
                continue
            if len(pieces) == 1:
                text, notes = part.text(self.hint)
            else:
                text, notes = decode(piece, part.parameters.get("charset", ""), self.hint)
            self.reading.notes += notes
            if text.strip():
                text = unix_lines(text)
                self.reading.blocks.append(TextBlock(text, flowed, delsp))
                self._armoured(text)

    def _armoured(self, text: str) -> None:
        """Notes on OpenPGP in a text (RFC 9580, section 6.2), wherever it begins there."""
        kinds = {match[1] for match in _ARMOUR.finditer(text)}
        if "MESSAGE" in kinds:
            self.reading.notes.append(Note("encrypted"))
        if "SIGNED MESSAGE" in kinds:
            self.reading.notes.append(Note("signed", "OpenPGP, in the text"))

    def _inlined(self, file: InlinedFile, number: str) -> None:
        name = decode(file.name)[0]
        kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
        self.reading.attachments.append(Attachment(made_part(file.content, kind, name, number)))
        self.reading.blocks.append(TextBlock("", label="A file stands here in the text", name=name[:200]))
        if not file.whole:
            self.reading.notes.append(Note("encoding-damaged", f"{name[:80]}, in the text"))

    def _leaf(self, part: Part) -> None:
        kind, shown = part.type, part.disposition[0] != "attachment"
        if is_wrapper(part) and self.depth < MAX_NESTED:
            self._wrapper(part)
            return
        if kind in _SMIME or (kind == "application/octet-stream" and part.filename.lower().endswith(_SMIME_NAMES)):
            self._smime(part)
        if kind in LABELLED and shown:
            text, notes = part.text(self.hint)
            if kind == "message/external-body":
                parameters = "\n".join(f"{name}: {value}" for name, value in part.parameters.items())
                text = f"{parameters}\n{text.strip()}".strip()
            self.reading.blocks.append(TextBlock(text.strip("\n"), label=LABELLED[kind]))
            self.reading.notes += notes
            if kind != "message/external-body":
                if part.filename:
                    self.reading.attachments.append(Attachment(part))
                return
            self.reading.notes.append(Note("kept-elsewhere", one_of(part.parameters, "url", "name", "access-type")))
        self.reading.attachments.append(Attachment(part))
        if kind == "text/calendar" and shown:
            self._calendar(part)
        elif kind in _SHOWN_PICTURES and shown:
            self.reading.blocks.append(PictureBlock(part))
        elif kind in ("message/rfc822", "message/global") and shown:
            if self.depth >= MAX_NESTED:
                self.reading.notes.append(Note("nesting-too-deep", f"part {part.number[:40]}"))
            elif self.words:
                keys = self.protection.keys if self.protection is not None else None
                self.reading.blocks.append(MessageBlock(part.content(), self.depth + 1, keys))

    def _wrapper(self, part: Part) -> None:
        """A wrapper of text and attachments ([MS-OXTNEF]): what is in it, as if it had been sent plainly."""
        item = read_item(part.content())
        self.reading.attachments.append(Attachment(part))
        if item is None:
            return
        inner, notes = parse(content_of(item).written(), number=f"{part.number}.1")
        self.reading.notes.append(Note("wrapper-opened", Attachment(part).name[:80]))
        if item.damage or item.properties.damage:
            self.reading.notes.append(Note("wrapper-damaged", Attachment(part).name[:80]))
        self.reading.notes += notes
        self.depth += 1
        blocks, self.reading.blocks = self.reading.blocks, []
        self.show(inner)
        self.reading.blocks = self._told_once(blocks, self.reading.blocks)
        self.depth -= 1

    def _told_once(self, before: list[Block], wrapped: list[Block]) -> list[Block]:
        """The blocks before a wrapper and those in it; a text that stands in both is shown as the richer one."""
        texts = [block for block in wrapped if isinstance(block, HtmlBlock | TextBlock)]
        known = _letters("".join(b.html if isinstance(b, HtmlBlock) else b.text for b in texts))
        others = [b for b in before if not (isinstance(b, TextBlock) and known and _letters(b.text) in known)]
        return [*others, *wrapped]

    def _calendar(self, part: Part) -> None:
        others = [b.part.content() for b in self.reading.blocks if isinstance(b, CalendarBlock)]
        if part.content() not in others:
            self.reading.blocks.append(CalendarBlock(part))

    def _signed(self, part: Part) -> None:
        """The content, then the signature as a file (RFC 1847 section 2.1)."""
        if self.protection is not None and len(part.children) > 1:
            self.protection.show_signed(self, part)
            return
        self.show(part.children[0])
        for child in part.children[1:]:
            signers: list[str] = []
            if "pkcs7" in child.type:
                from wexagraph.messages.smime import read_signed

                signed = read_signed(child.content())
                signers = signed.signers if signed else []
            by = f"by {', '.join(signers)[:120]}; " if signers else ""
            self.reading.notes.append(Note("signed", f"{by}{Attachment(child).name[:80]}"))
            self.attach_all([child])

    def _smime(self, part: Part) -> None:
        from wexagraph.messages.smime import read_signed
        from wexagraph.protection.enveloped import is_enveloped, read_compressed

        if self.protection is not None:
            self.protection.whole = part is self.whole
        kind = part.parameters.get("smime-type", "").lower()
        if kind in ("", "compressed-data") and self.depth < MAX_NESTED:
            content = read_compressed(part.content())
            if content is not None:
                self.reading.notes.append(Note("unpacked", Attachment(part).name[:80]))
                self.inner(content, part, whole=part is self.whole, sure=False)
                return
        if kind in ("", "signed-data", "certs-only"):
            signed = read_signed(part.content())
            if signed is not None:
                by = f"by {', '.join(signed.signers)[:120]}; " if signed.signers else ""
                if signed.content and self.depth < MAX_NESTED:
                    sure = False
                    if self.protection is not None:
                        sure = self.protection.check_smime(part.content(), None)
                    else:
                        self.reading.notes.append(Note("signed", f"{by}{Attachment(part).name[:80]}"))
                    self.inner(signed.content, part, whole=part is self.whole, sure=sure)
                return
        if part.type in _SMIME or is_enveloped(part.content()):
            if self.protection is None:
                self.reading.notes.append(Note("encrypted"))
            elif self.depth < MAX_NESTED:
                opened = self.protection.open_enveloped(part.content())
                if opened is not None:
                    self.inner(opened, part, whole=part is self.whole)

    def inner(self, content: bytes, part: Part, whole: bool = False, sure: bool = True) -> None:
        """What was inside a part that is kept as a file: an entity of its own. Where it is the `whole` of a message and
        `sure` (it was opened, or its signature holds), its header may count."""
        inner, notes = parse(content, number=f"{part.number}.1")
        self.reading.notes += notes
        if whole:
            if sure and self.protection is not None:
                inner = self.protection.look_inside(inner)
            self.whole = inner
        self.depth += 1
        self.show(inner)
        self.depth -= 1

    def _alternative(self, part: Part) -> None:
        wanted = [child for child in part.children if self._can_show(child)]
        chosen = next((c for c in reversed(wanted) if _kind_of(c, self.plain)), None) or (wanted or part.children)[-1]
        for child in part.children:
            if child is chosen:
                self.show(child)
            elif self._is_other_text(child):
                named = [leaf for leaf in child.walk() if not leaf.children and leaf.filename]
                self.reading.attachments += [Attachment(leaf) for leaf in named]
            else:
                self.attach_all([child])
                for leaf in child.walk():
                    if leaf.type == "text/calendar":
                        self._calendar(leaf)

    def _can_show(self, part: Part) -> bool:
        if part.children:
            return any(self._can_show(child) for child in part.children)
        if not self._is_text(part):
            return False
        if part.type == "text/html":
            return _shows_something(part.text(self.hint)[0])
        return bool(part.data[part.start : part.end].strip())

    def _is_other_text(self, part: Part) -> bool:
        """Another wording of the text shown: left out. Pictures of one come along, since nothing refers to them."""
        leaves = [leaf for leaf in part.walk() if not leaf.children]
        return all(self._is_text(leaf) for leaf in leaves)

    def _related(self, part: Part) -> None:
        start = part.parameters.get("start", "").strip("<> ")
        root = next((c for c in part.children if start and c.content_id == start), part.children[0])
        if not self._can_show(root):  # a start that names a picture, or none: the text comes first all the same
            root = next((c for c in part.children if self._can_show(c)), root)
        self.show(root)
        for child in part.children:
            if child is not root:
                self._beside(child)

    def _beside(self, part: Part) -> None:
        """What stands beside the root of multipart/related: pictures of its layout, and whatever people put there."""
        if part.children or (self._is_text(part) and not (part.content_id or part.location)):
            self.show(part)
        else:
            self.reading.attachments.append(Attachment(part))

    def add_text(self, block: TextBlock, notes: list[Note]) -> None:
        """A text is to be shown."""
        self.reading.blocks.append(block)
        self.reading.notes += notes

    def attach_all(self, parts: list[Part]) -> None:
        """Every leaf of these parts is a file."""
        for part in parts:
            for leaf in part.walk():
                if not leaf.children:
                    self.reading.attachments.append(Attachment(leaf))


def is_wrapper(part: Part) -> bool:
    """Whether a part holds text and attachments of the message in a form of its own ([MS-OXTNEF])."""
    named = part.type in TYPES or part.filename.lower() == "winmail.dat"
    return named and part.content().startswith(MAGIC)


_MARKUP = re.compile(r"(?is)<(?:style|head|title|script)\b.*?</(?:style|head|title|script)>|<[^>]*>|&nbsp;|&#?\w+;")


def _letters(text: str) -> str:
    """The letters and digits of a text or of HTML, to tell whether two say the same."""
    return "".join(filter(str.isalnum, _MARKUP.sub("", text[:2_000_000])))


def html_of(part: Part, hint: str = "") -> tuple[str, list[Note]]:
    """The HTML of a text part, with an end to what its author let nest without one."""
    text, notes = part.text(hint)
    if part.type != "text/html":
        from wexagraph.messages.enriched import enriched_to_html

        text = enriched_to_html(text, part.type == "text/richtext")
    text, deep = flattened(without_endless_tags(text))
    return text, [*notes, Note("body-too-deep")] if deep else notes


_TAGS = re.compile(
    r"(?is)<(?:style|head|title|script)\b.*?</(?:style|head|title|script)>|<!--.*?-->|<(?!img\b)[^>]*>|\s|&nbsp;"
)


def _shows_something(html: str) -> bool:
    """Whether an HTML alternative has a word or a picture in it; some programs send an empty one."""
    return bool(_TAGS.sub("", html[:200_000]))


def one_of(values: dict[str, str], *names: str) -> str:
    """The first of these values that is there, shortened."""
    return next((values[name] for name in names if values.get(name)), "")[:120]


def _kind_of(part: Part, plain: bool) -> bool:
    """Whether this alternative holds the wanted kind of text: HTML, or with `plain` the plain text."""
    wanted = "text/plain" if plain else "text/html"
    return any(leaf.type == wanted for leaf in part.walk())


def without_endless_tags(html: str) -> str:
    """HTML in which a tag of more than a thousand attributes has none: parsers compare each with each."""
    if len(html) < _LONG_TAG:
        return html
    out = []
    for piece in html.split("<"):
        if len(piece) > _LONG_TAG and piece.count("=") > _MOST_ATTRIBUTES:
            name = _NAME.match(piece)
            tag, bracket, rest = piece.partition(">")
            if name and bracket and tag.count("=") > _MOST_ATTRIBUTES:
                piece = f"{name[0]}>{rest}"
        out.append(piece)
    return "<".join(out)


def flattened(html: str) -> tuple[str, bool]:
    """HTML without the tags of elements that stand more than 400 deep, and whether there were any."""
    if html.count("<") < _WORTH:
        return html, False
    out: list[str] = []
    at = depth = 0
    for tag in _TAG.finditer(html):
        if tag[2].lower() in _FLAT:
            continue
        deep = depth + (not tag[1]) > _MOST
        depth = max(0, depth - 1) if tag[1] else depth + 1
        if deep:
            out.append(html[at : tag.start()])
            at = tag.end()
    return ("".join([*out, html[at:]]), True) if out else (html, False)
