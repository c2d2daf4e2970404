"""What a PDF says of itself: document information and XMP (ISO 16684-1), alike, and the language it is in."""

from __future__ import annotations

import hashlib
import io
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from html import escape
from typing import Any

import wexagraph
from wexagraph.languages import told_language
from wexagraph.messages.dates import in_zone, parse_date, plausible
from wexagraph.messages.encoded_words import decode_words
from wexagraph.messages.headers import Header
from wexagraph.messages.mapi.mail import Origin
from wexagraph.messages.message import Message
from wexagraph.naming.patterns import Fields
from wexagraph.pages.file_structure import appended, objects_in_streams, trailer
from wexagraph.pages.options import PageOptions
from wexagraph.text import one_line, shortened, without_controls

_MOST_SERVERS = 20
_MOST_FIELD = 2000
_BY = re.compile(r"\bby\s+([\w.:\[\]-]{1,255})", re.IGNORECASE)
CREATOR = f"Wexagraph {wexagraph.__version__}"
UNIVERSAL = "http://www.aiim.org/pdfua/ns/id/"
"""The namespace in which a PDF says that it conforms to PDF/UA."""
_EPOCH = datetime(1980, 1, 1, tzinfo=UTC)
_LANGUAGE = re.compile(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8}){0,3}")
_MOST = 1000


@dataclass(frozen=True)
class Record:
    """The properties of a document: the four texts, the date of the message, and a language (BCP 47)."""

    title: str = ""
    author: str = ""
    subject: str = ""
    keywords: str = ""
    moment: datetime | None = None
    language: str = "en"

    @property
    def instant(self) -> datetime:
        """The date of the document: the message's; one that never changes where it has none."""
        return (self.moment or _EPOCH).astimezone(UTC)

    @property
    def words(self) -> list[str]:
        """The keywords, each once."""
        return list(dict.fromkeys(word for word in map(str.strip, self.keywords.split(",")) if word))


def record(options: PageOptions, fields: Fields, tags: tuple[str, ...], text: str = "") -> Record:
    """The properties of a message's PDF, from the patterns of the options; `text` is what the message says."""
    more = {"tags": ", ".join(tags)}
    texts = {name: _text(pattern.fill(fields, more)) for name, pattern in options.properties}
    texts["title"] = texts.get("title") or options.tr("no subject")
    return Record(**texts, moment=fields.moment, language=_language(fields.header, text) or options.language)


def _text(text: str) -> str:
    return without_controls(one_line(text))[:_MOST]


def _language(header: Header, text: str) -> str:
    """The message's own word for its language (RFC 3282), else the one that its text tells."""
    language = header.text(b"content-language").split(",")[0].strip()
    return language if _LANGUAGE.fullmatch(language) else told_language(text)


def described(pdf: bytes, about: Record) -> bytes:
    """The PDF with information, XMP and language, its title to be shown by viewers.

    What the engine writes is added to by an incremental update (ISO 32000-2, section 7.5.6), which takes a
    hundredth of the time of writing it anew; any other PDF is written anew.
    """
    quick = _appended(pdf, about)
    if quick is not None:
        return quick
    import pikepdf

    with pikepdf.open(io.BytesIO(pdf)) as document:
        describe(document, about, "/MarkInfo" in document.Root)
        out = io.BytesIO()
        document.save(out, deterministic_id=True, object_stream_mode=pikepdf.ObjectStreamMode.generate)
    return out.getvalue()


def describe(document: Any, about: Record, universal: bool = False) -> None:
    """Write the properties into a document open in pikepdf: XMP and information alike; see `xmp`."""
    import pikepdf

    for name, text in _information(about).items():
        if text:
            document.docinfo["/" + name] = pikepdf.String(text)
        elif "/" + name in document.docinfo:
            del document.docinfo["/" + name]
    document.Root.Metadata = document.make_stream(
        xmp(about, universal), Type=pikepdf.Name.Metadata, Subtype=pikepdf.Name.XML
    )
    document.Root.Lang = pikepdf.String(about.language)
    document.Root.ViewerPreferences = pikepdf.Dictionary(DisplayDocTitle=True)


def _information(about: Record) -> dict[str, str]:
    """The document information (ISO 32000-2, section 14.3.3)."""
    stamp = f"D:{about.instant:%Y%m%d%H%M%S}Z"
    return {
        "Title": about.title,
        "Author": about.author,
        "Subject": about.subject,
        "Keywords": ", ".join(about.words),
        "Creator": CREATOR,
        "Producer": CREATOR,
        "CreationDate": stamp,
        "ModDate": stamp,
    }


def xmp(about: Record, universal: bool = False) -> bytes:
    """The properties as an XMP packet: Dublin Core, XMP Basic, Adobe PDF. A `universal` document says that everyone can
    read it (ISO 14289-1, section 5)."""
    moment = f"{about.instant:%Y-%m-%dT%H:%M:%SZ}"
    words = "".join(f"<rdf:li>{escape(word)}</rdf:li>" for word in about.words)
    rows = [
        f'<dc:title><rdf:Alt><rdf:li xml:lang="x-default">{escape(about.title)}</rdf:li></rdf:Alt></dc:title>',
        f"<dc:creator><rdf:Seq><rdf:li>{escape(about.author)}</rdf:li></rdf:Seq></dc:creator>" if about.author else "",
        f'<dc:description><rdf:Alt><rdf:li xml:lang="x-default">{escape(about.subject)}</rdf:li></rdf:Alt>'
        "</dc:description>"
        if about.subject
        else "",
        f"<dc:subject><rdf:Bag>{words}</rdf:Bag></dc:subject>" if words else "",
        f"<pdf:Keywords>{escape(', '.join(about.words))}</pdf:Keywords>" if words else "",
        f"<dc:language><rdf:Bag><rdf:li>{about.language}</rdf:li></rdf:Bag></dc:language>",
        f"<pdf:Producer>{CREATOR}</pdf:Producer>",
        f"<xmp:CreatorTool>{CREATOR}</xmp:CreatorTool>",
        *(f"<xmp:{name}>{moment}</xmp:{name}>" for name in ("CreateDate", "ModifyDate", "MetadataDate")),
        f'<pdfuaid:part xmlns:pdfuaid="{UNIVERSAL}">1</pdfuaid:part>' if universal else "",
    ]
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="adobe:ns:meta/">'
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" '
        'xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/" '
        f'xmlns:pdf="http://ns.adobe.com/pdf/1.3/">{"".join(rows)}</rdf:Description></rdf:RDF></x:xmpmeta>'
        '<?xpacket end="w"?>'
    ).encode("utf-8", "replace")


_SCHEMA = (
    '<rdf:Description rdf:about="" xmlns:pdfaExtension="http://www.aiim.org/pdfa/ns/extension/" '
    'xmlns:pdfaSchema="http://www.aiim.org/pdfa/ns/schema#" '
    'xmlns:pdfaProperty="http://www.aiim.org/pdfa/ns/property#">'
    '<pdfaExtension:schemas><rdf:Bag><rdf:li rdf:parseType="Resource"><pdfaSchema:schema>PDF/UA identification'
    f"</pdfaSchema:schema><pdfaSchema:namespaceURI>{UNIVERSAL}</pdfaSchema:namespaceURI>"
    "<pdfaSchema:prefix>pdfuaid</pdfaSchema:prefix><pdfaSchema:property><rdf:Seq>"
    '<rdf:li rdf:parseType="Resource"><pdfaProperty:name>part</pdfaProperty:name>'
    "<pdfaProperty:valueType>Integer</pdfaProperty:valueType><pdfaProperty:category>internal</pdfaProperty:category>"
    "<pdfaProperty:description>The part of ISO 14289 that is met</pdfaProperty:description></rdf:li></rdf:Seq>"
    "</pdfaSchema:property></rdf:li></rdf:Bag></pdfaExtension:schemas></rdf:Description>"
)
_MORE = (
    f'<rdf:Description rdf:about="" xmlns:pdfuaid="{UNIVERSAL}">'
    f"<pdfuaid:part>1</pdfuaid:part></rdf:Description>{_SCHEMA}"
)
_PART = re.compile(rb"<pdfuaid:part[^>]*>1</pdfuaid:part>")


def archival_xmp(packet: bytes) -> tuple[bytes, bytes]:
    """The XMP of an archival document as PDF/A-3b, without what the validator of that refuses, and as PDF/A-3a and
    PDF/UA-1 with the schema that these need together (ISO 19005-3, section 6.6.2.3.3). Both have one length."""
    more = _MORE.encode("ascii")
    level_a, level_b = b"<pdfaid:conformance>A<", b"<pdfaid:conformance>B<"
    plain = _PART.sub(b"", packet.replace(more, b"")).replace(level_a, level_b)
    whole = plain.replace(level_b, level_a).replace(b"</rdf:RDF>", more + b"</rdf:RDF>")
    head, end, tail = plain.rpartition(b"<?xpacket")
    return head + b" " * (len(whole) - len(plain)) + end + tail, whole


def _appended(pdf: bytes, about: Record) -> bytes | None:
    """The PDF with a new catalogue, information and XMP behind it; None where it is not laid out as the engine does."""
    end = trailer(pdf)
    catalogue = objects_in_streams(pdf).get(end.root) if end else None
    if end is None or catalogue is None or not re.fullmatch(rb"<<.*/Type /Catalog.*>>\s*", catalogue, re.DOTALL):
        return None
    packet = xmp(about, b"/MarkInfo" in catalogue)
    more = f"/Metadata {end.size} 0 R /Lang ({about.language}) /ViewerPreferences << /DisplayDocTitle true >>\n>>"
    rows = (
        f"/{name} <feff{text.encode('utf-16-be', 'replace').hex()}>"
        for name, text in _information(about).items()
        if text
    )
    head = b"<< /Type /Metadata /Subtype /XML /Length %d >>" % len(packet)
    objects = {
        end.root: catalogue.rstrip()[:-2] + more.encode("ascii"),
        end.info: b"<< %s >>" % "\n".join(rows).encode("ascii"),
        end.size: head + b"\nstream\n" + packet + b"\nendstream",
    }
    return appended(pdf, end, objects)


@dataclass(frozen=True)
class Provenance:
    """Where a message was read: source, folder, ID there; the mailbox's date for it; the name of its file; its tags;
    its number in the run."""

    source: str = ""
    folder: str = ""
    id: str = ""
    arrival: datetime | None = None
    file: str = ""
    tags: tuple[str, ...] = ()
    number: int = 0


def evidence(message: Message, origin: Provenance, options: PageOptions) -> list[tuple[str, str]]:
    """Rows that say what this message is and where it was read: label and text."""
    header = message.header
    made = Origin.of(header)
    what = "message" if made.form else "original"
    file = f"{made.form}, SHA-256 {made.sha256}" if made.sha256 else made.form
    rows = [
        ("Message-ID", one_line(header.text(b"message-id"))),
        (f"SHA-256 of the {what}", hashlib.sha256(message.data).hexdigest()),
        (f"Size of the {what}", options.tr.many("{count} byte", "{count} bytes", len(message.data))),
        ("Made from", file),
        ("Read from", one_line(origin.source)),
        ("Folder", one_line(origin.folder)),
        ("ID there", origin.id),
        ("Arrived", _arrival(header, origin, options)),
        ("By way of", ", ".join(servers(header))),
    ]
    return [(label, shortened(text, _MOST_FIELD)) for label, text in rows if text]


def servers(header: Header) -> list[str]:
    """The servers that took the message, first to last, by their own names (RFC 5321, section 4.4)."""
    names: list[str] = []
    for value in reversed(header.all_raw(b"received")[:_MOST_SERVERS]):
        match = _BY.search(decode_words(value))
        if match and (not names or names[-1] != match[1]):
            names.append(match[1])
    return names


def _arrival(header: Header, origin: Provenance, options: PageOptions) -> str:
    """When the last server took it, else the mailbox's date for it."""
    for value in header.all_raw(b"received")[:1]:
        moment = parse_date(value.decode("latin-1").rpartition(";")[2])
        if moment is not None and plausible(moment, None):
            return _shown(moment, options)
    return _shown(origin.arrival, options) if origin.arrival else ""


def _shown(moment: datetime, options: PageOptions) -> str:
    zone = options.timezone()
    return options.tr.moment(in_zone(moment, zone) if zone else moment)


def all_fields(header: Header) -> list[tuple[str, str]]:
    """Every header field in its order: name and value as they stand in the message, unfolded, not decoded."""
    return [
        (name, one_line(re.sub(r"\s*\r?\n\s+", " ", value.decode("utf-8", "replace"))))
        for name, value in header.fields()
    ]
