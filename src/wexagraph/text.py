"""Text from messages, made harmless for where it is shown."""

from __future__ import annotations

import json
import re
import unicodedata
from typing import Any

from wexagraph.files import visible

# C0 and C1 controls, line and paragraph separators, bidirectional controls, zero-width characters that only hide,
# surrogates and the byte order mark: none of them may steer a terminal or reorder what stands beside it
_STEERING = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff]"
)
_SPACING = re.compile(r"[\t\n]+")
_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\ud800-\udfff\ufffe\uffff]")
_ASCII_CONTROLS = bytes(code for code in range(128) if _CONTROLS.match(chr(code)))


def one_line(text: str) -> str:
    """Text for one line of a terminal, a heading or a table cell: nothing in it steers what shows it."""
    if text.isprintable():
        return text
    return _STEERING.sub("", _SPACING.sub(" ", visible(text)))


def shortened(text: str, most: int) -> str:
    """At most so many characters, an ellipsis where more were there."""
    return text if len(text) <= most else text[:most] + "\N{HORIZONTAL ELLIPSIS}"


def to_json(value: Any, indent: int | None = 1) -> str:
    """Plain values as JSON (RFC 8259) that any reader takes and no terminal obeys: what steers is escaped, bytes of a
    name that are no text are shown."""
    text = json.dumps(value, ensure_ascii=False, indent=indent)
    return _STEERING.sub(_escaped, text)


def _escaped(match: re.Match[str]) -> str:
    letter = match[0]
    if "\udc80" <= letter <= "\udcff":
        return f"\\\\x{ord(letter) - 0xDC00:02x}"
    if "\ud800" <= letter <= "\udfff":
        return "\ufffd"
    return letter if letter in "\n\r\t" else f"\\u{ord(letter):04x}"


def lines(text: str) -> str:
    """Text of several lines for a terminal: line ends and tabs stay, whatever steers goes."""
    return _STEERING.sub("", text)


def without_controls(text: str) -> str:
    """Text for a page: characters that no markup may hold (XML 1.0 section 2.2) are taken out."""
    if text.isascii():  # much quicker
        return text.encode("ascii").translate(None, _ASCII_CONTROLS).decode("ascii")
    return _CONTROLS.sub("", text)


def without_tabs(text: str, column: int = 0) -> str:
    """Text whose tabs are spaces up to each eighth column, for letters of one width; it begins in `column`.

    East Asian wide letters count as two (UAX #11), marks as none.
    """
    out = []
    for line in text.split("\n"):
        pieces = line.split("\t")
        for piece in pieces[:-1]:
            column += len(piece) if piece.isascii() else sum(map(_columns, piece))
            gap = 8 - column % 8
            out += [piece, " " * gap]
            column += gap
        out += [pieces[-1], "\n"]
        column = 0
    return "".join(out[:-1])


def _columns(letter: str) -> int:
    if unicodedata.combining(letter) or unicodedata.category(letter) in ("Cf", "Me", "Mn"):
        return 0
    return 2 if unicodedata.east_asian_width(letter) in "WF" else 1


def size(count: float) -> str:
    """Bytes for people: 812 bytes, 14.2 KB, 3.1 MB; a KB is 1,024."""
    if count < 1024:
        return f"{int(count)} bytes" if count != 1 else "1 byte"
    for unit in ("KB", "MB", "GB"):
        count /= 1024
        if count < 1024:
            return f"{count:.1f} {unit}"
    return f"{count / 1024:.1f} TB"
