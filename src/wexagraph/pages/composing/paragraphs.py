"""Paragraphs of a plain text on their way to a page: in short pieces, in their direction, with links in them."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from html import escape

from wexagraph.pages.cleaning.breaks import escaped

MOST_PARAGRAPH = 20_000
_RTL = re.compile("[\u0590-\u08ff\ufb1d-\ufdff\ufe70-\ufefc]")
_ADDRESS = re.compile(r"https?://[^\s<>\"'\x00-\x1f]{1,2000}")


def short_pieces(paragraph: str) -> Iterator[str]:
    """A paragraph at its empty lines, and one that goes on without end at spaces: engines take long over those."""
    for piece in re.split(r"\n(?=\n)", paragraph):
        while len(piece) > MOST_PARAGRAPH:
            cut = max(piece.rfind(mark, MOST_PARAGRAPH // 2, MOST_PARAGRAPH) for mark in (" ", "\n"))
            cut = cut + 1 if cut > 0 else MOST_PARAGRAPH
            yield piece[:cut]
            piece = piece[cut:]
        yield piece


def is_rtl(text: str) -> bool:
    """Whether a paragraph runs from right to left: by its first strong character (UAX #9, rules P2 and P3)."""
    if not _RTL.search(text):
        return False
    strong = next((kind for kind in map(unicodedata.bidirectional, text) if kind in ("L", "R", "AL")), "L")
    return strong != "L"


def linked(text: str) -> str:
    """Text as HTML, web addresses in it clickable."""
    out, at = [], 0
    for match in _ADDRESS.finditer(text):
        address = match[0].rstrip(".,;:!?)]}\u2019\u201d")
        out.append(escaped(text[at : match.start()]))
        out.append(f'<a href="{escape(address)}">{escaped(address)}</a>')
        at = match.start() + len(address)
    out.append(escaped(text[at:]))
    return "".join(out)
