"""Rich text of its own as HTML: paragraphs, looks, tables, links and pictures."""

from __future__ import annotations

import html
import re
from base64 import b64encode
from typing import NamedTuple

from wexagraph.messages.mapi.rtf import events, whole


class Look(NamedTuple):
    """How a run of text looks: size in half points, colour as a number in the table of colours."""

    bold: bool = False
    italic: bool = False
    underlined: bool = False
    struck: bool = False
    size: int = 0
    colour: int = 0
    raised: int = 0
    hidden: bool = False


_FLAGS = {"b": "bold", "i": "italic", "ul": "underlined", "strike": "struck", "v": "hidden"}
_LINK = re.compile(r'HYPERLINK\s+(?:\\[a-z]\s+)?"([^"]{1,4000})"')


def html_of(data: bytes) -> str:
    """An RTF of its own as HTML: paragraphs, runs of text with their look, tables, links and pictures."""
    return _Writer(data).html()


class _Writer:
    """Turns the events of an RTF into HTML, a paragraph at a time."""

    def __init__(self, data: bytes) -> None:
        self.colours = _colours(data)
        self.data = data
        self.out: list[str] = []
        self.paragraph: list[str] = []
        self.cells: list[str] = []
        self.align = ""
        self.in_table = self.in_cell = False

    def html(self) -> str:
        look, stack = Look(), list[tuple[Look, str]]()
        mode, link = "", ""  # of the group: its picture, its link, or text
        fields: list[int] = []  # how deep the fields lie that are open
        picture: list[str] = []
        kind = "image/png"
        for event in events(self.data, frozenset({"fldinst", "pict", "shppict", "listtext", "pntext"})):
            text, number = event.text, event.number
            if event.kind == "{":
                stack.append((look, mode))
            elif event.kind == "}":
                if fields and fields[-1] == len(stack):
                    fields.pop()
                    link = ""
                before, (look, mode) = mode, stack.pop() if stack else (Look(), "")
                if before == "pict" and mode != "pict" and picture:
                    self._picture(kind, "".join(picture))
                    picture = []
                elif before == "fldinst" and mode != "fldinst":
                    match = _LINK.search(link)
                    link = match[1] if match else ""
            elif event.kind == "group":
                mode = text if text in ("pict", "fldinst") else mode
                link = "" if text == "fldinst" else link
            elif event.kind == "text":
                if mode == "pict":
                    picture.append(text)
                elif mode == "fldinst":
                    link += text
                elif not look.hidden:
                    self._text(text, look, link)
            elif text in ("pngblip", "jpegblip"):
                kind = f"image/{text[:-4]}"
            elif text in ("wmetafile", "emfblip", "dibitmap", "wbitmap", "macpict"):
                kind = ""
            elif text == "field":
                fields.append(len(stack))
            elif text in _FLAGS:
                look = look._replace(**{_FLAGS[text]: number != 0})
            elif text == "ulnone":
                look = look._replace(underlined=False)
            elif text == "plain":
                look = Look()
            elif text == "fs":
                look = look._replace(size=number or 0)
            elif text == "cf":
                look = look._replace(colour=number or 0)
            elif text in ("super", "sub", "nosupersub"):
                look = look._replace(raised={"super": 1, "sub": -1}.get(text, 0))
            elif not mode:
                self._break(text)
        self._end_paragraph(last=True)
        self._end_table()
        return whole("<html><body>" + "".join(self.out) + "</body></html>")

    def _text(self, text: str, look: Look, link: str) -> None:
        piece = html.escape(text).replace("  ", " \xa0")
        style = f"font-size:{look.size / 2:g}pt;" if 4 <= look.size <= 400 else ""
        if 0 < look.colour < len(self.colours) and self.colours[look.colour]:
            style += f"color:{self.colours[look.colour]};"
        if style:
            piece = f'<span style="{style}">{piece}</span>'
        wanted = ((look.bold, "b"), (look.italic, "i"), (look.underlined, "u"), (look.struck, "s"))
        raised = ((look.raised > 0, "sup"), (look.raised < 0, "sub"))
        for tag in [tag for holds, tag in (*wanted, *raised) if holds]:
            piece = f"<{tag}>{piece}</{tag}>"
        if link:
            piece = f'<a href="{html.escape(link)}">{piece}</a>'
        self.paragraph.append(piece)

    def _picture(self, kind: str, digits: str) -> None:
        digits = re.sub(r"[^0-9A-Fa-f]", "", digits)
        if kind and len(digits) > 16:
            content = b64encode(bytes.fromhex(digits[: len(digits) // 2 * 2])).decode("ascii")
            self.paragraph.append(f'<img src="data:{kind};base64,{content}">')

    def _break(self, word: str) -> None:
        if word in ("par", "sect", "page"):
            self._end_paragraph()
        elif word == "line":
            self.paragraph.append("<br>")
        elif word == "tab":
            self.paragraph.append("\xa0\xa0\xa0 ")
        elif word in ("cell", "nestcell"):
            self.cells.append("".join(self.paragraph))
            self.paragraph = []
        elif word in ("row", "nestrow"):
            self._row()
        elif word == "pard":
            self.align, self.in_cell = "", False
        elif word == "intbl":
            self.in_cell = True
        elif word in ("qc", "qr", "qj"):
            self.align = {"qc": "center", "qr": "right"}.get(word, "")

    def _end_paragraph(self, last: bool = False) -> None:
        if self.in_cell and not last:
            self.paragraph.append("<br>")
            return
        text, self.paragraph = "".join(self.paragraph), []
        if text or not last:
            self._end_table()
            align = f" align={self.align}" if self.align else ""
            self.out.append(f"<div{align}>{text or '<br>'}</div>\r\n")

    def _row(self) -> None:
        if not self.in_table:
            self.out.append('<table border="1" cellspacing="0" cellpadding="4">')
            self.in_table = True
        self.out.append("<tr>" + "".join(f"<td>{cell}</td>" for cell in self.cells) + "</tr>")
        self.cells = []

    def _end_table(self) -> None:
        if self.cells:
            self._row()
        if self.in_table:
            self.out.append("</table>")
            self.in_table = False


def _colours(data: bytes) -> list[str]:
    """An RTF's table of colours; "" stands for that of the reader."""
    match = re.search(rb"\{\\colortbl([^{}]{0,20000})", data)
    colours = []
    for entry in (match[1].split(b";") if match else [])[:-1]:
        parts = [re.search(rb"\\" + name + rb"(\d{1,3})", entry) for name in (b"red", b"green", b"blue")]
        numbers = [min(int(part[1]), 255) if part else 0 for part in parts]
        colours.append("#{:02x}{:02x}{:02x}".format(*numbers) if any(parts) else "")
    return colours
