"""Plain text to paragraphs with quote levels (RFC 3676 format=flowed, and the habits of fixed text)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

_QUOTE = re.compile(r"(?:> ?)*>|")
_FIXED_QUOTE = re.compile(r"(?:>[ ]?)*")
MAX_QUOTES = 40


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
