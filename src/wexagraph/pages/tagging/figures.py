"""The pictures of a page that are drawn, as files or as lines, each with its element."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping
from functools import partial

from wexagraph.pages.file_structure import EngineFile
from wexagraph.pages.tagging.content import Draw, Paint, Show
from wexagraph.pages.tagging.reading_order import Element, Reading
from wexagraph.pages.tagging.sheets import Sheets

_SIZE = rb"/Width (\d+)", rb"/Height (\d+)"
_VECTORS = "image/svg+xml"
_LEAST_PICTURE = 3.0  # points: what is smaller holds others apart, or counts who reads


def figures_of(
    sheets: Sheets, reading: Reading, resources: Mapping[str, tuple[str, bytes]], picture: str
) -> dict[Draw | Paint, Element]:
    """The pictures of the HTML that are drawn: those of one resource in their order."""
    waiting: dict[str, list[Element]] = {}
    for element in reading.elements:
        if element.kind == "Figure" and element.source:
            waiting.setdefault(element.source, []).append(element)
    names: dict[int, str] = {}
    figures: dict[Draw | Paint, Element] = {}
    for sheet in sheets.every:
        for token in sheet.tokens:
            if not isinstance(token, Draw) or not sheet.pictures.get(token.name):
                continue
            number = sheet.pictures[token.name]
            if number not in names:
                names[number] = _name(sheets.file, number, resources, waiting)
            figure = waiting[names[number]].pop(0) if waiting.get(names[number]) else None
            a, b, c, d, *_ = token.matrix
            if figure is None or figure.alternative is None or max(abs(a), abs(b)) < _LEAST_PICTURE:
                continue
            if max(abs(c), abs(d)) < _LEAST_PICTURE:
                continue
            figure.alternative = figure.alternative or picture
            figures[token] = figure
    for element in reading.elements:
        if element.kind == "Figure" and element.alternative == "":
            element.alternative = picture
    drawings = [
        element
        for element in reading.elements
        if element.kind == "Figure" and resources.get(element.source, ("",))[0] == _VECTORS
    ]
    return figures | _drawings(sheets, reading, drawings)


def _name(
    file: EngineFile, number: int, resources: Mapping[str, tuple[str, bytes]], waiting: Mapping[str, list[Element]]
) -> str:
    """The name of the picture that is drawn: the one of the same bytes, which the engine takes over where it can, else
    the first of the same size that the page shows; "" for none."""
    data, head = file.data(number), file.head(number)
    for name, (_, content) in resources.items():
        if file.pdf.startswith(content, data):
            return name
    size = tuple(int(match[1]) for match in map(partial(re.search, string=head), _SIZE) if match)
    return next((name for name in resources if waiting.get(name) and _size(resources[name]) == size), "")


def _size(resource: tuple[str, bytes]) -> tuple[int, ...]:
    """Width and height of a picture in pixels; nothing where it has none."""
    from PIL import Image

    if resource[0] == _VECTORS:
        return ()
    try:
        with Image.open(io.BytesIO(resource[1])) as image:
            return image.size
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return ()


def _drawings(sheets: Sheets, reading: Reading, drawings: list[Element]) -> dict[Draw | Paint, Element]:
    """The pictures made of lines: what is painted between the words before and behind them. Two that have no word
    between them are one."""
    with_words = {leaf.element for leaf in reading.leaves}
    waiting = [element for element in drawings if element not in with_words and element.alternative is not None]
    figures: dict[Draw | Paint, Element] = {}
    before, painted = 0, list[Paint]()
    for token in (token for page in sheets.pages if waiting for token in page.flat()):
        if isinstance(token, Paint):
            painted.append(token)
        elif isinstance(token, Show) and (placed := token.placed):
            _take_drawing(waiting, figures, painted, before, placed[0].first)
            before, painted = placed[-1].first + placed[-1].length, []
    _take_drawing(waiting, figures, painted, before, len(reading.letters))
    return figures


def _take_drawing(
    waiting: list[Element], figures: dict[Draw | Paint, Element], painted: list[Paint], before: int, behind: int
) -> None:
    here = [element for element in waiting if before <= element.first <= behind]
    if painted and here:
        here[0].alternative = "; ".join(filter(None, (element.alternative for element in here)))
        figures.update((token, here[0]) for token in painted)
        waiting[:] = [element for element in waiting if element not in here]
