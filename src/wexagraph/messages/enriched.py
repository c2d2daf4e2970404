"""Texts with marks: text/enriched (RFC 1896) and its forerunner text/richtext (RFC 1341) as HTML; format=flowed
(RFC 3676) as the lines that were written."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape
from typing import NamedTuple

_QUOTE = re.compile(r"(?:> ?)*>|")
_FIXED_QUOTE = re.compile(r"(?:>[ ]?)*")
MAX_QUOTES = 40
_COMMANDS = {
    "bold": ("<b>", "</b>"),
    "italic": ("<i>", "</i>"),
    "underline": ("<u>", "</u>"),
    "fixed": ("<tt>", "</tt>"),
    "smaller": ("<small>", "</small>"),
    "bigger": ("<big>", "</big>"),
    "subscript": ("<sub>", "</sub>"),
    "superscript": ("<sup>", "</sup>"),
    "center": ('<div style="text-align:center">', "</div>"),
    "flushleft": ('<div style="text-align:left">', "</div>"),
    "flushright": ('<div style="text-align:right">', "</div>"),
    "flushboth": ('<div style="text-align:justify">', "</div>"),
    "indent": ('<div style="margin-left:2em">', "</div>"),
    "paraindent": ('<div style="margin-left:2em">', "</div>"),
    "excerpt": ("<blockquote>", "</blockquote>"),
    "quotation": ("<blockquote>", "</blockquote>"),
    "signature": ('<div style="color:#555555">', "</div>"),
    "paragraph": ("<p>", "</p>"),
    "nofill": ("<pre>", "</pre>"),
    "color": ("<span>", "</span>"),
    "fontfamily": ("<span>", "</span>"),
    "lang": ("<span>", "</span>"),
    "param": ("", ""),
}
_TOKEN = re.compile(r"<<|<(/?)([A-Za-z0-9-]{1,60})>|\n+")
_BREAKS = {"nl": "<br>", "np": '<div style="break-after:page"></div>', "lt": "&lt;"}
_COLOUR = re.compile(r"[A-Za-z]{3,20}|([0-9A-Fa-f]{4}),([0-9A-Fa-f]{4}),([0-9A-Fa-f]{4})")


def enriched_to_html(text: str, rich: bool = False) -> str:
    """The text as HTML, not clean. Unknown commands are left out and their text kept (RFC 1896, section 3).

    `rich` reads text/richtext: line breaks are spaces there, `<nl>` is a break and `<lt>` a bracket.
    """
    out: list[str] = []
    at, filling, parameter = 0, 0, False
    for token in _TOKEN.finditer(text):
        words = text[at : token.start()]
        at = token.end()
        if words and not parameter:
            out.append(escape(words, quote=False))
        elif words.strip():
            out[-1:] = [_with_parameter(out[-1] if out else "", words.strip())]
        if token[0] == "<<":
            out.append("&lt;" if not rich else "&lt;&lt;")
        elif token[0][0] == "\n":
            out.append(token[0] if filling else " " if rich or len(token[0]) == 1 else "<br>" * (len(token[0]) - 1))
        else:
            closing, name = bool(token[1]), token[2].lower()
            if name == "param":
                parameter = not closing
            elif name in _COMMANDS:
                out.append(_COMMANDS[name][closing])
                filling += (-1 if closing else 1) * (name == "nofill")
            elif rich and not closing:
                out.append(_BREAKS.get(name, ""))
    if not parameter:
        out.append(escape(text[at:], quote=False))
    return "".join(out)


def _with_parameter(opened: str, value: str) -> str:
    """The opening tag just written, with what its <param> says: a colour or a font."""
    if opened != "<span>":
        return opened
    colour = _COLOUR.fullmatch(value)
    if colour and colour[1]:
        return f'<span style="color:#{colour[1][:2]}{colour[2][:2]}{colour[3][:2]}">'
    style = f"color:{value.lower()}" if colour else f"font-family:{value}"
    return f'<span style="{escape(style)}">'


class Paragraph(NamedTuple):
    """A run of lines of one quote level; `text` keeps its line breaks and spaces."""

    quotes: int
    text: str


def paragraphs(text: str, flowed: bool = False, delsp: bool = False) -> Iterator[Paragraph]:
    """The paragraphs of a text: neighbouring lines of one quote level, flowed lines joined where `flowed` says so.

    No character but quote marks, stuffing and the soft breaks of RFC 3676 is left out.
    """
    level = 0
    run: list[str] = []
    for quotes, line in _joined(text, delsp) if flowed else map(_fixed, text.split("\n")):
        if quotes != level and run:
            yield Paragraph(level, "\n".join(run))
            run = []
        level = quotes
        run.append(line)
    if run:
        yield Paragraph(level, "\n".join(run).rstrip("\n"))


def _fixed(line: str) -> tuple[int, str]:
    match = _FIXED_QUOTE.match(line)
    mark = match[0] if match else ""
    # ">From" is a quoted From line, and ">>>" alone may be a prompt: a mark without text behind stays a quote
    return min(mark.count(">"), MAX_QUOTES), line[len(mark) :]


def _joined(text: str, delsp: bool) -> Iterator[tuple[int, str]]:
    """Section 4.2: a line that ends in a space goes on in the next one of the same level; "-- " never does."""
    open_level = 0
    pieces: list[str] = []
    for raw in text.split("\n"):
        stripped = raw.lstrip(">")
        quotes = min(len(raw) - len(stripped), MAX_QUOTES)
        line = stripped[1:] if stripped.startswith(" ") else stripped
        if pieces and (quotes != open_level or line == "-- "):
            yield open_level, "".join(pieces)
            pieces = []
        open_level = quotes
        if line.endswith(" ") and line != "-- ":
            pieces.append(line[:-1] if delsp else line)
        else:
            yield quotes, "".join([*pieces, line])
            pieces = []
    if pieces:
        yield open_level, "".join(pieces)
