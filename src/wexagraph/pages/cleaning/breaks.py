"""Where endless words may break: web addresses, keys and tables drawn with signs must not leave the page."""

from __future__ import annotations

import re
from html import escape

# scripts that break between any two letters need no help
_ENDLESS = re.compile(
    "[^\\s\u0e00-\u0eff\u1000-\u109f\u1100-\u11ff\u1780-\u17ff\u2e80-\uffef\U00020000-\U0003ffff]{46,}"
)
_STEP = re.compile(r"[^/?&=.,;_-]{1,14}[/?&=.,;_-]*|[/?&=.,;_-]+")


def escaped(text: str) -> str:
    """Text as HTML in which a word of more than 45 characters may break, after a mark where there is one.

    The engine's own `overflow-wrap` breaks words that would fit on the next line, where an element begins with them.
    """
    if "wx:" in text:  # never to be taken for the name of a picture
        return "wx&#58;".join(map(escaped, text.split("wx:")))
    if len(text) < 46 or not _ENDLESS.search(text):
        return escape(text, quote=False)
    out, at = [], 0
    for match in _ENDLESS.finditer(text):
        out.append(escape(text[at : match.start()], quote=False))
        out.append("<wbr>".join(escape(piece, quote=False) for piece in _STEP.findall(match[0])))
        at = match.end()
    out.append(escape(text[at:], quote=False))
    return "".join(out)
