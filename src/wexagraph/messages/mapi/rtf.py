"""Rich text in messages: packed ([MS-OXRTFCP]), with HTML inside that it was made of ([MS-OXRTFEX]), or of its own."""

from __future__ import annotations

import html
import re
import struct
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

from wexagraph.errors import MessageError
from wexagraph.messages.charsets import codec_for
from wexagraph.messages.mapi.properties import label_of

_PRELOADED = (
    rb"{\rtf1\ansi\mac\deff0\deftab720{\fonttbl;}{\f0\fnil \froman \fswiss \fmodern \fscript \fdecor MS Sans Serif"
    rb"SymbolArialTimes New RomanCourier{\colortbl\red0\green0\blue0"
    + b"\r\n"
    + rb"\par \pard\plain\f0\fs20\b\i\u\tab\tx"
)
_PACKED, _PLAIN = 0x75465A4C, 0x414C454D
_MOST_UNPACKED = 256 * 1024 * 1024
_TOKEN = re.compile(
    rb"\\([A-Za-z]{1,32})(-?\d{1,10})? ?|\\'([0-9A-Fa-f]{2})|([{}])|\\([^A-Za-z'])|([\r\n]+)|([^\\{}\r\n]+)|\\"
)
_CHARSETS = {  # \fcharset to code page
    0: 1252,
    77: 10000,
    78: 932,
    79: 949,
    80: 936,
    81: 950,
    128: 932,
    129: 949,
    134: 936,
    136: 950,
    161: 1253,
    162: 1254,
    163: 1258,
    177: 1255,
    178: 1256,
    186: 1257,
    204: 1251,
    222: 874,
    238: 1250,
}
_SIGNS = {
    "lquote": "\u2018",
    "rquote": "\u2019",
    "ldblquote": "\u201c",
    "rdblquote": "\u201d",
    "bullet": "\u2022",
    "endash": "\u2013",
    "emdash": "\u2014",
    "enspace": "\u2002",
    "emspace": "\u2003",
    "qmspace": "\u2005",
    "zwj": "\u200d",
    "zwnj": "\u200c",
    "ltrmark": "\u200e",
    "rtlmark": "\u200f",
}
_SYMBOLS = {b"~": "\xa0", b"_": "\u2011", b"-": "\xad", b"{": "{", b"}": "}", b"\\": "\\"}
_PASSED_OVER = frozenset(
    "fonttbl colortbl stylesheet info pict header headerl headerr headerf footer footerl footerr footerf footnote "
    "annotation object nonshppict revtbl listtable listoverridetable rsidtbl generator themedata colorschememapping "
    "datastore latentstyles filetbl xmlnstbl mhtmltag background shpinst".split()
)
_DEEPEST = 1000


def unpacked(data: bytes) -> bytes:
    """The RTF of PidTagRtfCompressed ([MS-OXRTFCP] section 2). Raises MessageError where it is none.

    Data that breaks off gives what there is of it.
    """
    if len(data) < 16:
        raise MessageError("its rich text has no whole header")
    _, size, kind = struct.unpack_from("<III", data)
    if kind == _PLAIN:
        return data[16 : 16 + size]
    if kind != _PACKED:
        raise MessageError("its rich text is packed in no way that is known")
    out = bytearray(_PRELOADED)
    begin, at, end, most = len(out), 16, len(data), min(size, _MOST_UNPACKED) + len(out)
    while at < end and len(out) < most:
        flags = data[at]
        at += 1
        for bit in range(8):
            if at >= end:
                break
            if not flags >> bit & 1:
                out.append(data[at])
                at += 1
                continue
            if at + 1 >= end:
                at = end
                break
            token = data[at] << 8 | data[at + 1]
            at += 2
            distance = (len(out) - (token >> 4)) % 4096
            if not distance:
                at = end
                break
            length, start = (token & 15) + 2, len(out) - distance
            if start < 0:
                out += bytes(length)  # a place in the window that nothing has been written to
            elif distance >= length:
                out += out[start : start + length]
            else:
                out += (out[start:] * (length // distance + 1))[:length]
    return bytes(out[begin:most])


class Event(NamedTuple):
    """What stands next in an RTF: "{", "}", a "word" with its number, a "group" begun by a word, or "text"."""

    kind: str
    text: str
    number: int | None = None


class _Group:
    """What holds until the end of a group: characters behind \\u to leave out, and the code page."""

    __slots__ = ("codec", "passed_over", "skipped")

    def __init__(self, skipped: int, codec: str, passed_over: bool) -> None:
        self.skipped, self.codec, self.passed_over = skipped, codec, passed_over


@lru_cache(maxsize=64)
def _codec(codepage: int) -> str:
    return codec_for(label_of(codepage)) or "cp1252"


def _fonts(data: bytes) -> dict[int, str]:
    """The codecs of an RTF's fonts."""
    start = data.find(b"\\fonttbl")
    table = data[start : start + 65536] if start >= 0 else b""
    pairs = re.findall(rb"\\f(\d{1,5})[^;{}]*?\\fcharset(\d{1,3})", table)
    return {int(number): _codec(_CHARSETS[int(charset)]) for number, charset in pairs if int(charset) in _CHARSETS}


def events(data: bytes, wanted: frozenset[str] = frozenset()) -> Iterator[Event]:
    """An RTF's text, words and groups in their order. Groups of no text are passed over, but for those `wanted`."""
    data = data.rstrip(b"\0")
    match = re.search(rb"\\ansicpg(\d{1,5})", data[:4096])
    usual = _codec(int(match[1]) if match else 1252)
    fonts = _fonts(data)
    groups = [_Group(1, usual, False)]
    group, waiting, skip, at, starts, starred = groups[0], bytearray(), 0, 0, False, False
    while at >= 0:
        begin, at = at, -1
        for token in _TOKEN.finditer(data, begin):
            word, number, code, brace, symbol, _, letters = token.groups()
            if code is not None and not group.passed_over:
                if skip:
                    skip -= 1
                else:
                    waiting.append(int(code, 16))
                starts = False
                continue
            if letters is not None:
                starts = False
                if group.passed_over:
                    continue
                if skip:
                    letters, skip = letters[skip:], max(0, skip - len(letters))
                waiting += letters
                continue
            if waiting:
                yield Event("text", waiting.decode(group.codec, "replace"))
                waiting.clear()
            if brace == b"{":
                if len(groups) > _DEEPEST:
                    return
                group = _Group(group.skipped, group.codec, group.passed_over)
                groups.append(group)
                starts, starred, skip = True, False, 0
                if not group.passed_over:
                    yield Event("{", "")
            elif brace == b"}":
                if len(groups) > 1:
                    closed = groups.pop()
                    group = groups[-1]
                    if not closed.passed_over or not group.passed_over:
                        yield Event("}", "")
                starts, skip = False, 0
            elif word is not None:
                name, value = word.decode("ascii"), int(number) if number else None
                if name == "bin" and value is not None and value > 0:
                    at = token.end() + value
                    break
                if group.passed_over:
                    continue
                if starts and (starred or name in _PASSED_OVER):
                    if name in wanted:
                        yield Event("group", name, value)
                    else:
                        group.passed_over = True
                    starts = False
                    continue
                starts = False
                if name == "uc":
                    group.skipped = min(max(value or 0, 0), 10)
                elif name == "f" and value is not None:
                    group.codec = fonts.get(value, usual)
                elif name == "u" and value is not None:
                    yield Event("text", chr(value & 0xFFFF))
                    skip = group.skipped
                elif name in _SIGNS:
                    yield Event("text", _SIGNS[name])
                else:
                    yield Event("word", name, value)
            elif symbol == b"*":
                starred = starts
            elif symbol is not None and not group.passed_over:
                if symbol in (b"\n", b"\r"):
                    yield Event("word", "par")
                elif symbol in _SYMBOLS:
                    yield Event("text", _SYMBOLS[symbol])
                starts = False
    if waiting:
        yield Event("text", waiting.decode(group.codec, "replace"))


def _whole(text: str) -> str:
    """Text whose halves of characters beyond 16 bits, which \\u gives one by one, are put together."""
    return text.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "replace")


def inside(data: bytes) -> tuple[str, str]:
    """What an RTF was made of ([MS-OXRTFEX] section 2.1): ("html" or "text", that text); ("", "") where of nothing."""
    if re.search(rb"\\fromhtml1?\b", data[:2048]):
        return "html", _html_inside(data)
    if re.search(rb"\\fromtext\b", data[:2048]):
        return "text", _text_inside(data)
    return "", ""


def _html_inside(data: bytes) -> str:
    out: list[str] = []
    stack: list[bool] = []
    hidden = False  # between \htmlrtf and \htmlrtf0 stands what is for readers of RTF
    for event in events(data, frozenset({"htmltag"})):
        kind, text = event.kind, event.text
        if kind == "{":
            stack.append(hidden)
        elif kind == "}":
            hidden = stack.pop() if stack else False
        elif kind == "word" and text == "htmlrtf":
            hidden = event.number != 0
        elif hidden or kind == "group":
            continue
        elif kind == "text":
            out.append(text)
        elif text in ("par", "line"):
            out.append("\r\n")
        elif text == "tab":
            out.append("\t")
    return _whole("".join(out)).rstrip("\0")


def _text_inside(data: bytes) -> str:
    out = []
    for event in events(data):
        if event.kind == "text":
            out.append(event.text)
        elif event.kind == "word" and event.text in ("par", "line", "tab"):
            out.append("\t" if event.text == "tab" else "\n")
    return _whole("".join(out)).rstrip("\0")


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
        return _whole("<html><body>" + "".join(self.out) + "</body></html>")

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
            from base64 import b64encode

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
