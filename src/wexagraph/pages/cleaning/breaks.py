"""Where endless words may break: web addresses, keys and tables drawn with signs must not leave the page."""

from __future__ import annotations

import re
from html import escape

# the longest word without a break: in texts of ours, and in a layout, where a browser would break it as late
MOST = 45
MOST_IN_LAYOUT = 89
# scripts that break between any two letters need no help
_LETTER = "[^\\s\u0e00-\u0eff\u1000-\u109f\u1100-\u11ff\u1780-\u17ff\u2e80-\uffef\U00020000-\U0003ffff]"
_ENDLESS = {most: re.compile(f"{_LETTER}{{{most + 1},}}") for most in (MOST, MOST_IN_LAYOUT)}
_BROWSERS = re.compile(r"(?<=-)(?=[^\W\d])|(?<=\?)(?=\w)")
_STEP = re.compile(r"[^/?&=.,;_-]{1,14}[/?&=.,;_-]*|[/?&=.,;_-]+")


def escaped(text: str, most: int = MOST) -> str:
    """Text as HTML in which a word of more than `most` characters may break, after a mark where there is one.

    The engine's own `overflow-wrap` breaks words that would fit on the next line, where an element begins with them.
    """
    if "wx:" in text:  # never to be taken for the name of a picture
        return "wx&#58;".join(escaped(piece, most) for piece in text.split("wx:"))
    if len(text) <= most or not _ENDLESS[most].search(text):
        return escape(text, quote=False)
    out, at = [], 0
    for match in _ENDLESS[most].finditer(text):
        out.append(escape(text[at : match.start()], quote=False))
        out.append("<wbr>".join(escape(piece, quote=False) for piece in _pieces(match[0], most)))
        at = match.end()
    out.append(escape(text[at:], quote=False))
    return "".join(out)


def _pieces(word: str, most: int) -> list[str]:
    """A word in pieces: where a browser would break it, and after marks in what is too long all the same."""
    pieces: list[str] = []
    for piece in _BROWSERS.split(word) if most == MOST_IN_LAYOUT else [word]:
        pieces += _STEP.findall(piece) if len(piece) > most else [piece]
    return pieces
