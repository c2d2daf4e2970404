"""Each attachment as pages of its own, under a thin strip that says what it is."""

from __future__ import annotations

import hashlib
import io
import re
import signal
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from html import escape
from types import FrameType

from markupsafe import Markup

from wexagraph.languages import told_language
from wexagraph.messages.blocks import Attachment
from wexagraph.messages.charsets import decode
from wexagraph.messages.filetypes import DOCX, EML, PDF, XLSX, ZIP, settle
from wexagraph.messages.message import Message
from wexagraph.messages.mime import made_part, unix_lines
from wexagraph.messages.visible_text import html_to_text
from wexagraph.naming.patterns import Fields
from wexagraph.notes import Note
from wexagraph.pages.attachments.office import SUITE_TYPES, document_html, suite_pdf
from wexagraph.pages.attachments.pictures import frames
from wexagraph.pages.attachments.sheets import csv_table, workbook
from wexagraph.pages.checking.soundness import check_pdf
from wexagraph.pages.cleaning.clean import clean
from wexagraph.pages.cleaning.pictures import Pictures
from wexagraph.pages.cleaning.quirks import escaped
from wexagraph.pages.composing.cards import calendar_cards, vcard_cards
from wexagraph.pages.composing.compose import MOST_TEXT, Page, compose, page_rules, templates
from wexagraph.pages.composing.header_footer import Box, header_footer
from wexagraph.pages.composing.plain import linked
from wexagraph.pages.composing.properties import Record
from wexagraph.pages.engines import Engine
from wexagraph.pages.options import PageOptions
from wexagraph.pages.pdf.archival import conforms
from wexagraph.pages.pdf.foreign import checked
from wexagraph.pages.pdf.pieces import Piece
from wexagraph.pages.scans.recognise import Scanned, with_words
from wexagraph.text import one_line, shortened, without_controls

PATIENCE = 20.0
"""Seconds that one attachment may take; an office suite has a limit of its own, within what a page may take."""
MOST_DEPTH, MOST_MEMBERS, MOST_MEMBER_BYTES = 4, 300, 200 * 1024 * 1024
_SAMPLE = 20_000
_TEXTS = frozenset(
    {"application/json", "application/xml", "application/javascript", "application/sql", "application/x-yaml"}
)


@dataclass
class _Made:
    html: str = ""
    resources: dict[str, tuple[str, bytes]] = field(default_factory=dict)
    css: str = ""
    landscape: bool = False
    pdf: bytes = b""
    below: list[Piece] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)


class _NoPages(ValueError):
    """A kind of file that pages are not made of: described and embedded, which its page says."""


class Converter:
    """Makes pages of attachments with an engine. `notes` tells what differs; `unconverted` what has to be embedded.

    `fields` and `file` are what the header and footer say of the message; a `part` of a bound PDF has none yet. `tell`
    is told of each page before its words are recognised: the attachment's name, and the page's number.
    """

    def __init__(
        self,
        options: PageOptions,
        engine: Engine,
        fields: Fields,
        file: str = "",
        part: bool = False,
        tell: Callable[[str, int], None] = lambda name, page: None,
    ) -> None:
        self.options, self.engine = options, engine
        self._fields, self._file, self._part, self._tell = fields, file, part, tell
        self.notes: list[Note] = []
        self.unconverted: list[Attachment] = []
        self._held = 0

    def pieces(self, attachments: list[Attachment], depth: int = 0, pages: bool = True) -> list[Piece]:
        """The pages of each attachment. Without `pages`, each is only described. Never fails on content."""
        return [self._piece(attachment, depth, pages) for attachment in attachments]

    def _piece(self, attachment: Attachment, depth: int, pages: bool) -> Piece:
        content = attachment.content()
        name = shortened(one_line(attachment.name), 300) or self.options.tr("no name")
        self.notes += attachment.notes()
        kind = settle(attachment.name, attachment.type, content)
        scanned: Scanned | None = None
        reason = ""
        try:
            if not pages:
                raise ValueError("an earlier try to make pages of the attachments failed")
            with time_limit(PATIENCE):
                made = self._made(attachment, kind, content, depth)
                pdf = made.pdf or self._set(name, kind, content, made)
        except Exception as error:  # whatever a broken file does to a library, it does to its own pages only
            reason = str(error)[:200] or type(error).__name__
            self.unconverted.append(attachment)
            if not isinstance(error, _NoPages):
                self.notes.append(Note("attachment-unconverted", f"{name[:80]}: {reason}"))
            made = _Made(self._described(attachment, kind, content, reason))
            pdf = self._set(name, kind, content, made)
        else:
            if self.options.ocr and (kind == PDF or kind.startswith("image/")):
                scanned = with_words(pdf, self.options.ocr, name, lambda page: self._tell(name, page))
                pdf, made.notes = scanned.pdf, [*made.notes, *scanned.notes]
        self.notes += made.notes
        return Piece(name, pdf, made.below, foreign=bool(made.pdf) and kind != EML, scanned=scanned, unmade=reason)

    def _made(self, attachment: Attachment, kind: str, content: bytes, depth: int) -> _Made:
        if kind == PDF:
            return _Made(pdf=self._foreign(content))
        if kind.startswith("image/"):
            return self._picture(kind, content, escape(one_line(attachment.name)))
        if kind in ("text/csv", "text/tab-separated-values"):
            table, notes = csv_table(content, "\t" if kind != "text/csv" else "")
            return _Made(table, notes=notes)
        if kind == "text/html":
            return self._html(decode(content)[0])
        if kind == EML and depth < MOST_DEPTH:
            return self._message(content, depth)
        if kind == XLSX:
            resources: dict[str, tuple[str, bytes]] = {}
            table, wide, notes = workbook(content, resources, self.options.language)
            return _Made(table, resources, landscape=wide, notes=notes)
        if kind == DOCX:
            made = self._html(document_html(content))
            made.html = f'<div class="wx-document">{made.html}</div>'
            return made
        if kind in ("text/calendar", "text/vcard"):
            return self._cards(kind, content)
        if kind in SUITE_TYPES:
            return _Made(pdf=self._foreign(suite_pdf(content, kind)))
        if kind == ZIP:
            return self._archive(attachment, content, depth)
        if kind.startswith("text/") or kind in _TEXTS or kind.endswith(("+xml", "+json")):
            return self._text(content)
        raise _NoPages("no pages can be made of a file of this kind")

    def _foreign(self, content: bytes) -> bytes:
        """A PDF that others have made. Raises ValueError where it can't stand behind the message."""
        pdf = checked(content, self.options.most_pages)
        if self.options.archival and not conforms(pdf):
            raise ValueError("its pages do not conform to PDF/A, which the message is to be")
        return pdf

    def _set(self, name: str, kind: str, content: bytes, made: _Made) -> bytes:
        options = replace(self.options, landscape=True) if made.landscape else self.options
        html = (
            templates(self.options.tr)
            .get_template("attachment.html")
            .render(
                rules=page_rules(options, made.html, made.css),
                header_footer=self._header_footer(name),
                name=name,
                about=f"{kind}, {self.options.tr.size(len(content))}",
                body=Markup(made.html),
                style=Markup(made.css.replace("</", "<\\/")),
            )
        )
        language = told_language(html_to_text(made.html[:_SAMPLE])) or options.language
        return check_pdf(self.engine.render(Page(html, made.resources, Record(name, language=language)), options))

    def _header_footer(self, name: str) -> list[Box]:
        """The header and footer of an attachment: its name stands for the subject."""
        return (
            [] if self._part else header_footer(self.options, replace(self._fields, subject=name), self._file).boxes()
        )

    def _described(self, attachment: Attachment, kind: str, content: bytes, reason: str) -> str:
        tr = self.options.tr
        rows = [
            ("Name", one_line(attachment.name)),
            ("Declared as", one_line(attachment.type)),
            ("Taken for", kind),
            ("Size", tr.size(len(content))),
            ("SHA-256", hashlib.sha256(content).hexdigest()),
            ("Not shown", reason),
        ]
        title = tr("This attachment is not shown as pages")
        return templates(tr).get_template("card.html").render(title=title, rows=rows)

    def _picture(self, kind: str, content: bytes, called: str) -> _Made:
        resources: dict[str, tuple[str, bytes]] = {}
        if kind == "image/svg+xml":
            resources["wx:picture-1"] = (kind, _harmless_svg(content))
            return _Made(f'<p class="wx-scan"><img src="wx:picture-1" alt="{called}"></p>', resources)
        out = []
        for number, (media, data, width, height) in enumerate(frames(content), 1):
            resources[f"wx:picture-{number}"] = (media, data)
            # as large as the page, less the strip, and never larger than 150 dots an inch
            most_wide, most_high = self._room()
            factor = min(1.0, most_wide / width, most_high / height)
            sized = f"width:{width * factor:.0f}px;height:{height * factor:.0f}px"
            out.append(f'<p class="wx-scan"><img src="wx:picture-{number}" style="{sized}" alt="{called}"></p>')
        return _Made("".join(out), resources)

    def _room(self) -> tuple[float, float]:
        height = (self.options.page_size[1] - self.options.margin.top - self.options.margin.bottom - 4) / 25.4 * 96
        return self.options.content_width, height - 56

    def _text(self, content: bytes) -> _Made:
        text, notes = decode(content)
        if len(text) > MOST_TEXT:
            notes.append(Note("attachment-shortened", f"{len(text)} characters"))
        text = without_controls(unix_lines(text[:MOST_TEXT]).replace("\f", "\n"))
        pieces = (text[at : at + 4000] for at in range(0, len(text), 4000)) if "\n" not in text else _paragraphs(text)
        body = "".join(f"<pre>\n{linked(piece)}\n</pre>" for piece in pieces)
        return _Made(f'<div class="wx-text">{body}</div>', notes=notes)

    def _html(self, html: str) -> _Made:
        made = _Made()
        pictures = Pictures(lambda _: None, made.resources)
        cleaned = clean(html[:MOST_TEXT], pictures, self.options.content_width, "wx-mail-1", self.options.show_hidden)
        made.html, made.css = f'<div class="wx-mail wx-mail-1">{cleaned.html}</div>', cleaned.css
        made.notes = [*cleaned.notes, *pictures.notes]
        return made

    def _message(self, content: bytes, depth: int) -> _Made:
        message = Message(content, depth)
        page = compose(message, self.options, part=self._part)
        below = self.pieces(message.attachments, depth + 1) if message.attachments else []
        return _Made(pdf=check_pdf(self.engine.render(page, self.options)), below=below, notes=page.notes)

    def _cards(self, kind: str, content: bytes) -> _Made:
        zone = self.options.timezone()
        cards = (
            calendar_cards(content, zone, self.options.tr)
            if kind == "text/calendar"
            else vcard_cards(content, self.options.tr)
        )
        if not cards:
            return self._text(content)
        card = templates(self.options.tr).get_template("card.html")
        return _Made("".join(card.render(title=title, rows=rows) for title, rows in cards))

    def _archive(self, attachment: Attachment, content: bytes, depth: int) -> _Made:
        tr = self.options.tr
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            infos = [info for info in archive.infolist() if not info.is_dir()]
            rows = "".join(
                f"<tr><td>{escaped(shortened(one_line(info.filename), 500))}</td>"
                f'<td class="wx-number">{tr.size(info.file_size)}</td>'
                f"<td>{info.date_time[0]:04}-{info.date_time[1]:02}-{info.date_time[2]:02}</td></tr>"
                for info in infos[:5000]
            )
            made = _Made(
                f'<table class="wx-sheet"><thead><tr><th>{tr("File")}</th><th>{tr("Size")}</th><th>{tr("Dated")}</th>'
                "</tr></thead>"
                f"<tbody>{rows}</tbody></table>"
            )
            if len(infos) > 5000:
                made.notes.append(Note("attachment-shortened", f"{len(infos)} files, 5,000 listed"))
            if self.options.open_zips and depth < MOST_DEPTH:
                members = self._members(archive, infos, attachment, made.notes)
                made.below = self.pieces(members, depth + 1)
        return made

    def _members(
        self, archive: zipfile.ZipFile, infos: list[zipfile.ZipInfo], attachment: Attachment, notes: list[Note]
    ) -> list[Attachment]:
        """The files of a ZIP, bounded in number, size and proportion."""
        members = []
        for number, info in enumerate(infos[:MOST_MEMBERS], 1):
            self._held += info.file_size
            if self._held > MOST_MEMBER_BYTES or info.file_size > 1000 * max(info.compress_size, 1000):
                notes.append(Note("attachment-shortened", f"{one_line(info.filename)[:80]} is too large to be opened"))
                continue
            with archive.open(info) as member:
                data = member.read(info.file_size + 1)
            name = info.filename.rpartition("/")[2]
            members.append(
                Attachment(made_part(data, "application/octet-stream", name, f"{attachment.part.number}.{number}"))
            )
        if len(infos) > MOST_MEMBERS:
            notes.append(Note("attachment-shortened", f"{len(infos)} files, {MOST_MEMBERS} opened"))
        return members


def _paragraphs(text: str) -> list[str]:
    """Runs of about fifty lines: short blocks keep the engine quick."""
    lines = text.split("\n")
    return ["\n".join(lines[at : at + 50]) for at in range(0, len(lines), 50)]


_MOST_DRAWN = 50_000


def _refuse_growth(svg: str) -> None:
    """Raises ValueError for an SVG that draws itself again and again by references (SVG 2, section 5.6)."""
    from xml.etree import ElementTree

    try:
        root = ElementTree.fromstring(svg)
    except (ElementTree.ParseError, RecursionError, ValueError) as error:
        raise ValueError("the picture is no SVG that can be read") from error
    named = {element.get("id"): element for element in root.iter() if element.get("id")}
    drawn: dict[int, int] = {}

    def count(element: ElementTree.Element, depth: int) -> int:
        key = id(element)
        if key in drawn:
            return drawn[key]
        drawn[key] = _MOST_DRAWN  # what refers to itself never ends
        total = 1 + sum(count(child, depth + 1) for child in element) if depth < 200 else _MOST_DRAWN
        if element.tag.rpartition("}")[2] == "use":
            for name, value in element.attrib.items():
                target = named.get(value.removeprefix("#")) if name.rpartition("}")[2] == "href" else None
                total += count(target, depth + 1) if target is not None else 0
        drawn[key] = min(total, _MOST_DRAWN)
        return drawn[key]

    if count(root, 0) >= _MOST_DRAWN:
        raise ValueError("the picture draws itself again and again")


def _harmless_svg(content: bytes) -> bytes:
    """An SVG without anything that runs or refers elsewhere. Raises ValueError where it is no SVG to be read."""
    text = decode(content)[0]
    if len(text) > 4_000_000 or "<!ENTITY" in text.upper():
        raise ValueError("the picture is too large, or defines entities")
    _refuse_growth(text)
    text = re.sub(r"(?is)<(script|foreignObject|iframe|style)\b.*?(</\1\s*>|/>)", "", text)
    text = re.sub(r"""(?i)\son\w+\s*=\s*("[^"]*"|'[^']*')""", "", text)
    return re.sub(
        r"""(?i)((?:xlink:)?href|src)\s*=\s*(["'])(?!#|data:image/(?:png|jpeg|gif))[^"']*\2""", "", text
    ).encode("utf-8", "replace")


@contextmanager
def time_limit(seconds: float) -> Iterator[None]:
    """Raises TimeoutError, an OSError, in what runs longer. A limit outside of it stays, and the sooner one counts.

    Works in the main thread of a process with POSIX signals, as workers are; elsewhere the worker's own limit has to
    do. A call into a library in C is waited for.
    """
    if not hasattr(signal, "setitimer") or threading.current_thread() is not threading.main_thread():
        yield
        return

    def late(_: int, __: FrameType | None) -> None:
        raise TimeoutError(f"it took more than {seconds:g} seconds")

    started = time.monotonic()
    before = signal.getsignal(signal.SIGALRM)
    outer = signal.getitimer(signal.ITIMER_REAL)[0]
    if 0 < outer <= seconds:
        yield
        return
    signal.signal(signal.SIGALRM, late)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
        if outer:
            signal.setitimer(signal.ITIMER_REAL, max(0.01, outer - (time.monotonic() - started)))
