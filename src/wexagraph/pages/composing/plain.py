"""A message as plain text: its heading, its text, and what is attached."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from datetime import datetime
from html import escape

from wexagraph.messages.blocks import CalendarBlock, HtmlBlock, MessageBlock, TextBlock
from wexagraph.messages.dates import in_zone
from wexagraph.messages.message import Message
from wexagraph.messages.visible_text import html_to_text
from wexagraph.pages.cleaning.quirks import escaped
from wexagraph.pages.composing.cards import calendar_cards
from wexagraph.pages.composing.properties import Provenance, all_fields, evidence
from wexagraph.pages.options import PageOptions
from wexagraph.text import lines, one_line

MOST_PARAGRAPH = 20_000
_RTL = re.compile("[\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc]")
_ADDRESS = re.compile(r"https?://[^\s<>\"'\x00-\x1f]{1,2000}")


def to_text(message: Message, options: PageOptions, origin: Provenance) -> str:
    """The message for reading in any editor, UTF-8, LF line ends."""
    out, tr = _message(message, options, origin.arrival), options.tr
    if options.evidence:
        out += [
            "",
            f"-- {tr('Origin of this copy')}",
            *(f"{tr(label)}: {text}" for label, text in evidence(message, origin, options)),
        ]
    if options.headers:
        out += [
            "",
            f"-- {tr('All header fields')}",
            *(f"{name}: {value}" for name, value in all_fields(message.header)),
        ]
    return "\n".join(out) + "\n"


def _message(message: Message, options: PageOptions, arrival: datetime | None) -> list[str]:
    header, tr = message.header, options.tr
    out = [f"{tr('Subject')}: {one_line(header.subject) or tr('no subject')}"]
    for label, name in (("From", b"from"), ("To", b"to"), ("Cc", b"cc")):
        text = one_line(", ".join(str(address) for address in header.addresses(name)))
        if text:
            out.append(f"{tr(label)}: {text}")
    moment = header.date(arrival)[0]
    out.append(f"{tr('Date')}: {_date(moment, options)}")
    out += [f"{tr('Attached')}: {one_line(a.name)} ({tr.size(a.size)})" for a in message.attachments]
    out.append("")
    for block in message.blocks(plain=True):
        if isinstance(block, TextBlock):
            label = tr(block.label) + (f": {block.name}" if block.name else "")
            out += ["", f"----- {label} -----"] if label else []
            out.append(lines(block.text).rstrip("\n"))
        elif isinstance(block, HtmlBlock):
            out.append(lines(html_to_text(block.html)))
        elif isinstance(block, CalendarBlock):
            for title, rows in calendar_cards(block.part.content(), options.timezone(), tr):
                out += ["", title, *(f"{tr(label)}: {text}" for label, text in rows)]
        elif isinstance(block, MessageBlock):
            out += [
                "",
                f"----- {tr('Message inside this message')} -----",
                *_message(Message(block.data, block.depth, block.keys), options, None),
            ]
            out.append(f"----- {tr('End of the message inside')} -----")
    return out


def _date(moment: datetime | None, options: PageOptions) -> str:
    if moment is None:
        return options.tr("undated")
    zone = options.timezone()
    return f"{in_zone(moment, zone) if zone else moment:%Y-%m-%d %H:%M %z}"


def short_pieces(paragraph: str) -> Iterator[str]:
    """A paragraph at its empty lines, and one that goes on without end at spaces: engines take long over those."""
    for piece in re.split(r"\n(?=\n)", paragraph):
        while len(piece) > MOST_PARAGRAPH:
            cut = max(piece.rfind(mark, MOST_PARAGRAPH // 2, MOST_PARAGRAPH) for mark in (" ", "\n"))
            cut = cut + 1 if cut > 0 else MOST_PARAGRAPH
            yield piece[:cut]
            piece = piece[cut:]
        yield piece


def is_rtl(text: str) -> bool:
    """Whether a paragraph runs from right to left: by its first strong character (UAX #9, rules P2 and P3)."""
    if not _RTL.search(text):
        return False
    strong = next((kind for kind in map(unicodedata.bidirectional, text) if kind in ("L", "R", "AL")), "L")
    return strong != "L"


def linked(text: str) -> str:
    """Text as HTML, web addresses in it clickable."""
    out, at = [], 0
    for match in _ADDRESS.finditer(text):
        address = match[0].rstrip(".,;:!?)]}\u2019\u201d")
        out.append(escaped(text[at : match.start()]))
        out.append(f'<a href="{escape(address)}">{escaped(address)}</a>')
        at = match.start() + len(address)
    out.append(escaped(text[at:]))
    return "".join(out)
