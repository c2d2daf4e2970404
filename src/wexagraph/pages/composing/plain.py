"""A message as plain text: its heading, its text, and what is attached."""

from __future__ import annotations

from datetime import datetime

from wexagraph.messages import CalendarBlock, HtmlBlock, Message, MessageBlock, TextBlock
from wexagraph.messages.dates import in_zone
from wexagraph.messages.visible_text import html_to_text
from wexagraph.pages.composing.cards import calendar_cards
from wexagraph.pages.composing.provenance import Provenance, all_fields, evidence
from wexagraph.pages.options import PageOptions
from wexagraph.text import lines, one_line


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
                *_message(Message(block.data, block.depth), options, None),
            ]
            out.append(f"----- {tr('End of the message inside')} -----")
    return out


def _date(moment: datetime | None, options: PageOptions) -> str:
    if moment is None:
        return options.tr("undated")
    zone = options.timezone()
    return f"{in_zone(moment, zone) if zone else moment:%Y-%m-%d %H:%M %z}"
