"""`Message` to a print-ready page: HTML that is complete in itself, and the pictures it refers to by name."""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import lru_cache
from html import escape
from itertools import groupby
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from wexagraph.languages import LANGUAGES, Language, offset_text
from wexagraph.messages.blocks import CalendarBlock, HtmlBlock, MessageBlock, PictureBlock, TextBlock
from wexagraph.messages.dates import in_zone
from wexagraph.messages.enriched import paragraphs
from wexagraph.messages.message import Message
from wexagraph.naming.patterns import Fields
from wexagraph.notes import Note
from wexagraph.pages.cleaning.clean import clean
from wexagraph.pages.cleaning.pictures import Fetched, Pictures
from wexagraph.pages.cleaning.quirks import Relief, escaped
from wexagraph.pages.composing.cards import calendar_cards
from wexagraph.pages.composing.glyphs import named, without_font
from wexagraph.pages.composing.header_footer import header_footer
from wexagraph.pages.composing.plain import is_rtl, linked, short_pieces
from wexagraph.pages.composing.properties import Provenance, Record, all_fields, evidence, record
from wexagraph.pages.composing.quotes import key, left_out, without_quotes, words_of
from wexagraph.pages.options import PageOptions
from wexagraph.text import one_line, shortened, without_controls, without_tabs

MOST_TEXT = 2_000_000
"""Characters of one text that are set on pages; the original is embedded whole."""
_MOST_FIELD = 20_000


@dataclass
class Page:
    """A page to be set: HTML, resources by the names it uses (media type, bytes), and what belongs to the record.

    `text` is all text of the message that the page has to show, in no exact order, but for letters that no font has;
    `rich` the part of it that stands in a layout of the author's; `held` says that some of it stands in a box that may
    be too small for it. `remote` are the addresses of pictures that lie on the network. A page that is not `tagged`
    only runs along others, and is not read.
    """

    html: str
    resources: dict[str, tuple[str, bytes]]
    record: Record
    notes: list[Note] = field(default_factory=list)
    text: str = ""
    rich: str = ""
    held: bool = False
    bare: bool = False
    remote: tuple[str, ...] = ()
    tagged: bool = True

    @property
    def has_tables(self) -> bool:
        """Whether a layout of the author's has tables."""
        return "<table" in self.html.partition(_BEGIN_OF_LAYOUT)[2]

    def on_paper(self, paper: str, factor: float) -> Page:
        """The same page for another `@page` rule, all of ours but not the message's own larger by `factor`."""

        def larger(match: re.Match[str]) -> str:
            return f"{float(match[1]) * factor:g}{match[2]}"

        ours, begin, theirs = self.html.partition(_END_OF_OURS)
        start, style, rules = ours.partition("<style>")
        rules = _PAPER.sub(paper, rules, count=1)
        base, brace, rest = rules.rpartition("/* sizes */")
        return replace(self, html=start + style + base + brace + _LENGTH.sub(larger, rest) + begin + theirs)

    def self_contained(self) -> str:
        """The HTML as one file: every picture inside it (RFC 2397), as often as that does not make it huge."""
        packed: dict[str, str] = {}
        room = _MOST_INLINED

        def inline(match: re.Match[str]) -> str:
            nonlocal room
            name = match[0]
            if name not in self.resources:
                return name
            first = name not in packed
            if first:
                kind, content = self.resources[name]
                packed[name] = f"data:{kind};base64,{base64.b64encode(content).decode('ascii')}"
            room -= 0 if first else len(packed[name])
            return packed[name] if first or room > 0 else "data:,"

        return _RESOURCE.sub(inline, self.html) if self.resources else self.html


_MOST_INLINED = 32 * 1024 * 1024
"""Characters that repeated pictures of a page may take; the first of each is always there."""
_RESOURCE = re.compile(r"wx:picture-\d+")
_POSITION = re.compile(r"position:(?<![\w-]position:)")  # looked for from behind, which is much quicker
_BEGIN_OF_LAYOUT = 'class="wx-mail '
_END_OF_OURS = "/* of the message */"
_PAPER = re.compile(r"size: [\d.]+mm [\d.]+mm;\s+margin: [^;]+")
_LENGTH = re.compile(r"(\d+(?:\.\d+)?)(mm|pt)\b")


@lru_cache(maxsize=len(LANGUAGES))
def templates(tr: Language) -> Environment:
    """The templates of pages in a language, with their filters."""
    environment = Environment(
        loader=PackageLoader("wexagraph.pages.composing", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        auto_reload=False,
    )
    environment.filters.update(filters(tr))
    environment.globals["tr"] = tr
    return environment


def page_rules(options: PageOptions, body: str, style: str, screen: bool = False) -> Markup:
    """The style sheet of what is ours on a page that holds `body`, with the message's own style sheet `style`."""
    return _rules(options, screen, _POSITION.search(body) is not None or _POSITION.search(style) is not None)


@lru_cache(maxsize=32)
def _rules(options: PageOptions, screen: bool, placed: bool) -> Markup:
    template = templates(options.tr).get_template("page.css")
    return Markup(template.render(options=options, screen=screen, placed=placed))


def filters(tr: Language) -> dict[str, Callable[[Any], Any]]:
    """What a template may make of a value: `bytes`, text for people; `tr`, a label in the language of the page;
    `breakable`, long words with places to break; `direction`, ltr or rtl."""
    return {
        "bytes": tr.size,
        "tr": tr,
        "breakable": lambda text: Markup(escaped(text)),
        "direction": lambda text: "rtl" if is_rtl(text) else "ltr",
    }


def compose(
    message: Message,
    options: PageOptions,
    *,
    origin: Provenance | None = None,
    plain: bool = False,
    screen: bool = False,
    part: bool = False,
    known: dict[str, str] | None = None,
    fetched: Mapping[str, Fetched] | None = None,
    relief: Relief = Relief.NONE,
) -> Page:
    """Set a message as a page.

    `origin` is where it was read; without one nothing is said of it. `plain` takes the text in place of the layout;
    `screen` makes the page for a browser. A `part` of a bound PDF has no header and footer yet. `known` are quotes that
    stand elsewhere, and where (see `pages/composing/quotes.py`). `fetched` are pictures from the network.

    `relief` is what the layout is made without.

    Never fails on content.
    """
    resources: dict[str, tuple[str, bytes]] = {}
    composer = _Composer(options, resources, plain, known or {}, fetched or {}, relief)
    body = composer.blocks(message)
    rich = "\n".join(composer.rich)
    header, where = message.header, origin or Provenance()
    moment, date_notes = header.date(where.arrival)
    below, composer.texts = composer.texts, []
    own = "\n".join(below)
    heading = composer.heading(message, where.arrival)
    composer.texts += below
    zone, number = options.timezone(), where.number
    tags = ", ".join(where.tags)
    fields = Fields(
        *(header, where.folder, where.id, zone, moment),
        tags=tags,
        number=number,
        case=options.case,
        read=lambda: message,
        tr=options.tr,
    )
    called = fields if part else options.called(fields)
    if called is not fields:
        heading["rows"].insert(0, ("Title", one_line(called.subject or "")))
        composer.texts.append(one_line(called.subject or ""))
    origin_rows = evidence(message, where, options) if options.evidence and origin else []
    all_of_them = all_fields(header) if options.headers and origin else []
    composer.texts += [text for label, value in origin_rows for text in (options.tr(label), value)]
    composer.texts += [text for row in all_of_them for text in row]
    text = "\n".join(composer.texts)
    boxes = without_font(text)
    if boxes:
        composer.notes.append(Note("letters-missing", named(boxes)))
        text = "".join(" " if char in boxes else char for char in text)
    notes = list(dict.fromkeys([*date_notes, *message.notes(plain), *composer.notes]))
    style = "\n".join(composer.css).replace("</", "<\\/")
    html = (
        templates(options.tr)
        .get_template("page.html")
        .render(
            screen=screen,
            rules=page_rules(options, body, style, screen),
            heading=heading,
            connected=not screen and bool({"embed", "pages"} & set(options.attachments)),
            header_footer=[] if screen or part else header_footer(options, fields, where.file).boxes(),
            evidence=origin_rows,
            all_fields=all_of_them,
            body=Markup(body),
            style=Markup(style),
            notes=[note.in_words(options.tr) for note in notes],
        )
    )
    return Page(
        html=html,
        resources=resources,
        record=record(options, called, where.tags, own),
        notes=notes,
        text=text,
        rich=rich,
        held=composer.held,
        bare=composer.bare,
        remote=tuple(composer.remote),
    )


def _heading(message: Message, options: PageOptions, arrival: datetime | None = None) -> dict[str, Any]:
    header = message.header
    rows = []
    for label, name in (
        ("From", b"from"),
        ("Sender", b"sender"),
        ("Answer to", b"reply-to"),
        ("To", b"to"),
        ("Cc", b"cc"),
        ("Bcc", b"bcc"),
    ):
        addresses = header.addresses(name)
        if label in ("Sender", "Answer to") and {a.address for a in addresses} <= {a.address for a in header.authors}:
            continue
        text = one_line(", ".join(map(str, addresses)))
        if text:
            rows.append((label, shortened(text, _MOST_FIELD)))
    rows.append(("Date", _shown_date(message, options, arrival)))
    for label, name in (("Subject", b"subject"), ("Date", b"date")):
        for other in dict.fromkeys(header.all_raw(name)[1:20]):
            if other != header.raw(name):
                rows.append((f"Also {label.lower()}", shortened(one_line(header.decoded(other)), _MOST_FIELD)))
    return {
        "subject": shortened(one_line(header.subject), _MOST_FIELD) or options.tr("no subject"),
        "rows": rows,
        "attachments": [
            {"name": shortened(one_line(a.name), _MOST_FIELD), "size": a.size, "type": one_line(a.type)[:80]}
            for a in message.attachments[:500]
        ],
        "more_attachments": max(0, len(message.attachments) - 500),
    }


def _shown_date(message: Message, options: PageOptions, arrival: datetime | None) -> str:
    moment, tr = message.header.date(arrival)[0], options.tr
    if moment is None:
        raw = message.header.text(b"date")
        return tr("undated (the field says: {text})", text=one_line(raw)[:100]) if raw else tr("undated")
    zone = options.timezone()
    shown = in_zone(moment, zone) if zone else moment
    text = tr.moment(shown)
    if zone is not None and shown.utcoffset() != moment.utcoffset():
        text += ", " + tr("sent {time}", time=f"{moment:%H:%M} {offset_text(moment)}")
    return text


class _Composer:
    def __init__(
        self,
        options: PageOptions,
        resources: dict[str, tuple[str, bytes]],
        plain: bool,
        known: dict[str, str],
        fetched: Mapping[str, Fetched],
        relief: Relief,
    ) -> None:
        self.options, self.resources, self.plain, self.known = options, resources, plain, known
        self.fetched, self.remote = fetched, dict[str, None]()
        self.relief = relief
        self.held = self.bare = False
        self.rich: list[str] = []
        self.css: list[str] = []
        self.bodies = 0
        self.notes: list[Note] = []
        self.texts: list[str] = []

    def heading(self, message: Message, arrival: datetime | None = None) -> dict[str, Any]:
        """What stands above a message; a field too long for that is a note."""
        fields = (b"from", b"sender", b"to", b"cc", b"bcc", b"subject")
        if any(len(message.header.raw(name) or b"") > _MOST_FIELD for name in fields):
            self.notes.append(Note("header-too-long"))
        heading = _heading(message, self.options, arrival)
        self.texts += [heading["subject"], *(text for _, text in heading["rows"])]
        self.texts += [attachment["name"] for attachment in heading["attachments"]]
        return heading

    def blocks(self, message: Message) -> str:
        absent = self.options.tr("not in the message")
        pictures = Pictures(message.picture, self.resources, self.fetched, absent)
        out = []
        for block in message.blocks(self.plain):
            if isinstance(block, TextBlock):
                text = self._text(block.text, block.flowed, block.delsp)
                label = self.options.tr(block.label)
                label += f": {block.name}" if block.name else ""
                out.append(f'<p class="wx-label">{escape(label)}</p>{text}' if label else text)
            elif isinstance(block, HtmlBlock):
                out.append(self._html(block, pictures))
            elif isinstance(block, PictureBlock):
                name = pictures.of_part(block.part)
                if name is not None and not self.plain:
                    called = escape(one_line(block.part.filename or ""))
                    out.append(f'<p class="wx-inline"><img src="{escape(name)}" alt="{called}"></p>')
            elif isinstance(block, CalendarBlock):
                out += self._cards(block)
            elif isinstance(block, MessageBlock):
                out.append(self._nested(Message(block.data, block.depth, block.keys)))
        self.notes += pictures.notes
        self.remote |= pictures.remote
        sealed = any(note.code == "encrypted" for note in message.notes(self.plain))
        none = "The text of this message is encrypted." if sealed else "This message has no text."
        return "\n".join(out) or f'<p class="wx-none">{escape(self.options.tr(none))}</p>'

    def _html(self, block: HtmlBlock, pictures: Pictures) -> str:
        html = block.html
        if len(html) > MOST_TEXT:
            self.notes.append(Note("body-too-long", f"{len(html)} characters"))
            html = html[:MOST_TEXT]
        if self.known and "<blockquote" in html.lower():
            html = without_quotes(html, self.known, self.options.tr)
        if self.plain:
            from wexagraph.messages.visible_text import html_to_text

            return self._text(html_to_text(html), False, False)
        self.bodies += 1
        scope = f"wx-mail-{self.bodies}"
        cleaned = clean(html, pictures, self.options.content_width, scope, self.options.show_hidden, self.relief)
        self.notes += cleaned.notes
        self.held, self.bare = self.held or cleaned.held, self.bare or cleaned.bare
        self.texts.append(cleaned.text)
        self.rich.append(cleaned.text)
        if cleaned.css:
            self.css.append(cleaned.css)
        return f'<div class="wx-mail {scope}">{cleaned.html}</div>'

    def _text(self, text: str, flowed: bool, delsp: bool) -> str:
        if len(text) > MOST_TEXT:
            self.notes.append(Note("body-too-long", f"{len(text)} characters"))
            text = text[:MOST_TEXT]
        out, level = ['<div class="wx-text">'], 0
        text = without_controls(text.replace("\f", "\n"))
        for quotes, paragraph in self._paragraphs(text, flowed, delsp):
            while level < quotes:
                out.append("<blockquote>")
                level += 1
            while level > quotes:
                out.append("</blockquote>")
                level -= 1
            # short blocks keep the engine quick, and let it break pages between them
            for piece in short_pieces(without_tabs(paragraph) if "\t" in paragraph else paragraph):
                self.texts.append(piece)
                direction = ' dir="rtl" class="wx-rtl"' if is_rtl(piece) else ""
                out.append(f"<pre{direction}>\n{linked(piece)}\n</pre>")
        out.append("</blockquote>" * level + "</div>")
        return "".join(out)

    def _paragraphs(self, text: str, flowed: bool, delsp: bool) -> Iterable[tuple[int, str]]:
        """The paragraphs of a text, quotes that stand elsewhere replaced by a line that says where."""
        if not self.known:
            return paragraphs(text, flowed, delsp)
        kept: list[tuple[int, str]] = []
        for quoted, group in groupby(paragraphs(text, flowed, delsp), key=lambda paragraph: paragraph.quotes > 0):
            run = list(group)
            where = self.known.get(key(words_of("\n".join(paragraph.text for paragraph in run)))) if quoted else None
            kept += [(0, left_out(where, self.options.tr))] if where is not None else run
        return kept

    def _cards(self, block: CalendarBlock) -> list[str]:
        cards = calendar_cards(block.part.content(), self.options.timezone(), self.options.tr)
        if not cards:
            self.notes.append(Note("calendar-unreadable", f"part {block.part.number}"))
        for title, rows in cards:
            self.texts += [title, *(text for _, text in rows)]
        template = templates(self.options.tr).get_template("card.html")
        return [template.render(title=title, rows=rows) for title, rows in cards]

    def _nested(self, message: Message) -> str:
        heading = self.heading(message)
        inner = self.blocks(message)
        self.notes += message.notes(self.plain)
        return templates(self.options.tr).get_template("nested.html").render(heading=heading, body=Markup(inner))
