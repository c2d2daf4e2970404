"""A message as plain text: its heading, its text, and what is attached."""

from __future__ import annotations

import re
from datetime import datetime

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.messages import CalendarBlock, HtmlBlock, Message, MessageBlock, TextBlock
from wexagraph.messages.dates import in_zone
from wexagraph.pages.cards import calendar_cards
from wexagraph.pages.evidence import Origin, all_fields, evidence
from wexagraph.pages.options import PageOptions
from wexagraph.text import lines, one_line, size

_BLOCKS = frozenset(
    [
        "address",
        "article",
        "aside",
        "blockquote",
        "center",
        "dd",
        "div",
        "dl",
        "dt",
        "fieldset",
        "figure",
        "footer",
        "form",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "header",
        "hr",
        "li",
        "main",
        "menu",
        "nav",
        "ol",
        "p",
        "pre",
        "section",
        "table",
        "tbody",
        "tfoot",
        "thead",
        "tr",
        "ul",
    ]
)
_SILENT = frozenset({"head", "script", "style", "template", "title", "svg", "iframe"})
_MOST_DEPTH = 400


def to_text(message: Message, options: PageOptions, origin: Origin) -> str:
    """The message for reading in any editor, UTF-8, LF line ends."""
    told = _message(message, options, origin.arrival)
    if options.evidence:
        told += [
            "",
            "-- Origin of this copy",
            *(f"{label}: {text}" for label, text in evidence(message, origin, options)),
        ]
    if options.headers:
        told += ["", "-- All header fields", *(f"{name}: {value}" for name, value in all_fields(message.header))]
    return "\n".join(told) + "\n"


def _message(message: Message, options: PageOptions, arrival: datetime | None) -> list[str]:
    header = message.header
    out = [f"Subject: {one_line(header.subject) or 'no subject'}"]
    for label, name in (("From", b"from"), ("To", b"to"), ("Cc", b"cc")):
        text = one_line(", ".join(str(address) for address in header.addresses(name)))
        if text:
            out.append(f"{label}: {text}")
    moment = header.date(arrival)[0]
    out.append(f"Date: {_date(moment, options)}")
    out += [f"Attached: {one_line(a.name)} ({size(a.size)})" for a in message.attachments]
    out.append("")
    for block in message.blocks(plain=True):
        if isinstance(block, TextBlock):
            out += ["", f"----- {block.label} -----"] if block.label else []
            out.append(lines(block.text).rstrip("\n"))
        elif isinstance(block, HtmlBlock):
            out.append(lines(html_to_text(block.html)))
        elif isinstance(block, CalendarBlock):
            for title, rows in calendar_cards(
                block.part.content(), options.timezone(), lambda m: f"{m:%Y-%m-%d %H:%M %z}"
            ):
                out += ["", title, *(f"{label}: {text}" for label, text in rows)]
        elif isinstance(block, MessageBlock):
            out += ["", "----- message inside this message -----", *_message(block.message, options, None)]
            out.append("----- end of the message inside -----")
    return out


def _date(moment: datetime | None, options: PageOptions) -> str:
    if moment is None:
        return "undated"
    zone = options.timezone()
    return f"{in_zone(moment, zone) if zone else moment:%Y-%m-%d %H:%M %z}"


def html_to_text(html: str) -> str:
    """The words of an HTML body in their order, a line for a block, cells of a row beside each other."""
    out: list[str] = []
    body = LexborHTMLParser(html).body
    if body is not None:
        _collect(body, out, False, 0)
    text = re.sub(r"[ \t]*\n[ \t]*", "\n", "".join(out))
    return re.sub(r"\n{3,}", "\n\n", text).strip()


def _collect(node: LexborNode, out: list[str], preformatted: bool, depth: int) -> None:
    if depth > _MOST_DEPTH:
        out.append(node.text(separator=" "))
        return
    child = node.first_child
    while child is not None:
        tag = child.tag
        if tag == "-text":
            text = child.text_content or ""
            out.append(text if preformatted else re.sub(r"[ \t\r\n\f]+", " ", text))
        elif tag == "br":
            out.append("\n")
        elif tag == "img":
            alternative = (child.attributes.get("alt") or "").strip()
            out.append(f"[{alternative}]" if alternative else "")
        elif tag is not None and tag[0] not in "-!_" and tag not in _SILENT:
            if tag in _BLOCKS:
                out.append("\n\n" if tag in ("p", "h1", "h2", "h3", "table", "blockquote") else "\n")
            elif tag in ("td", "th"):
                out.append("  ")
            if tag == "li":
                out.append("- ")
            _collect(child, out, preformatted or tag == "pre", depth + 1)
            if tag in _BLOCKS:
                out.append("\n\n" if tag in ("p", "h1", "h2", "h3", "table", "blockquote") else "\n")
        child = child.next
