"""text/enriched (RFC 1896) and its forerunner text/richtext (RFC 1341) as HTML."""

from __future__ import annotations

import re
from html import escape

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
