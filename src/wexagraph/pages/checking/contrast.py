"""What a reader sees of a page: words of nearly the colour of what lies behind them (WCAG 2, contrast ratio), and paper
that is left empty."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from wexagraph.errors import PageError
from wexagraph.pages.file_structure import CONTENTS, KIDS, NUMBER, objects_in_streams, stream_of

if TYPE_CHECKING:
    from wexagraph.pages.checking.text_check import Written

LEAST = 1.5
_SCALE = 1.5  # pixels a point
_MOST_PAGES = 40
_CONTENT = 0.93  # of a page's height: running lines stand below
_BOX = re.compile(rb"/MediaBox \[ 0 0 [\d.]+ ([\d.]+) \]")
_LINE = re.compile(rb"(?<=\s)(-?[\d.]+) Tm\b")
_RECTANGLE = re.compile(rb"(?<=\s)(-?[\d.]+) -?[\d.]+ (-?[\d.]+) re\b")


def unseen_words(written: Written) -> int:
    """How many words of a message's own pages can't be told from what lies behind them. Raises PageError."""
    import pypdfium2

    try:
        document = pypdfium2.PdfDocument(written.pdf, password=written.key or None)
        own = list(written.own(len(document)))[:_MOST_PAGES]
        return sum(_unseen(document[number]) for number in own)
    except pypdfium2.PdfiumError as error:
        raise PageError(f"the PDF can't be read back: {error}") from error


def gaps(pdf: bytes) -> int:
    """How many pages but the last are empty from the middle down, of a PDF as the engine has written it."""
    objects = objects_in_streams(pdf)
    tree = next((KIDS.search(content) for content in objects.values() if b"/Type /Pages" in content), None)
    pages = [objects.get(int(number), b"") for number in NUMBER.findall(tree[1])] if tree is not None else []
    return sum(_ends_early(pdf, page) for page in pages[:-1])


def _ends_early(pdf: bytes, page: bytes) -> bool:
    contents, box = CONTENTS.search(page), _BOX.search(page)
    if contents is None or box is None:
        return False
    height, content = float(box[1]), stream_of(pdf, int(contents[1]))
    # lines of text and boxes, down from the head of the page; running lines lie below the content
    feet = [float(down) for down in _LINE.findall(content)]
    feet += [float(down) + float(high) for down, high in _RECTANGLE.findall(content) if float(high) < height * 0.9]
    return max((foot for foot in feet if foot < height * _CONTENT), default=0.0) < height / 2


def _unseen(page: Any) -> int:
    picture, height = page.render(scale=_SCALE).to_pil().convert("L"), page.get_height()
    count = 0
    for left, bottom, right, top in _boxes(page.get_textpage()):
        box = (
            int(left * _SCALE),
            int((height - top) * _SCALE),
            int(right * _SCALE) + 1,
            int((height - bottom) * _SCALE) + 1,
        )
        darkest, lightest = picture.crop(box).getextrema()
        count += (_luminance(lightest) + 0.05) / (_luminance(darkest) + 0.05) < LEAST
    return count


def _boxes(text: Any) -> Iterator[tuple[float, float, float, float]]:
    """The boxes of the words of a page: left, bottom, right, top in points."""
    box: tuple[float, float, float, float] | None = None
    for index, letter in enumerate(text.get_text_range() + " "):
        if letter.isspace():
            if box is not None and box[2] - box[0] > 1:
                yield box
            box = None
            continue
        left, bottom, right, top = text.get_charbox(index)
        box = (
            (left, bottom, right, top)
            if box is None
            else (
                min(box[0], left),
                min(box[1], bottom),
                max(box[2], right),
                max(box[3], top),
            )
        )


def _luminance(grey: int) -> float:
    """The relative luminance of a grey."""
    part = grey / 255
    return part / 12.92 if part <= 0.04045 else float(((part + 0.055) / 1.055) ** 2.4)
