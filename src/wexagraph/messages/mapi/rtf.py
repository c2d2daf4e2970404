"""Rich text in messages: packed ([MS-OXRTFCP]), with HTML inside that it was made of ([MS-OXRTFEX]), or of its own."""

from __future__ import annotations

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


def whole(text: str) -> str:
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
    return whole("".join(out)).rstrip("\0")


def _text_inside(data: bytes) -> str:
    out = []
    for event in events(data):
        if event.kind == "text":
            out.append(event.text)
        elif event.kind == "word" and event.text in ("par", "line", "tab"):
            out.append("\t" if event.text == "tab" else "\n")
    return whole("".join(out)).rstrip("\0")
