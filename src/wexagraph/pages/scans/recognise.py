"""Pages that are pictures without text: found, recognised, and given an invisible layer of words."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from wexagraph.errors import PageError
from wexagraph.notes import Note
from wexagraph.pages.scans import cleaning, layer
from wexagraph.pages.scans.cleaning import Affine
from wexagraph.pages.scans.engines import Recogniser, Word, recogniser

PAGE_SECONDS = 60.0
MOST_PAGES = 1000
_DPI, _MOST_PIXELS = 300, 25_000_000
_LEAST = 0.02  # of a page that a picture covers, to be read
_UNSURE = 60.0  # percent: below it, a page is named
_ENOUGH = 75.0  # percent: above it, a page is surely upright
_DOUBTFUL = 85.0  # percent: below it, a page is read once more without grain
_LETTERS = re.compile(r"\w")
Box = tuple[float, float, float, float]
"""Left, bottom, right, top in points of the page."""


@dataclass
class Scanned:
    """A PDF whose pages that are pictures have words now, what was recognised in them, and notes on it."""

    pdf: bytes
    pages: int = 0
    words: int = 0
    confidence: float = 0.0
    text: str = ""
    notes: list[Note] = field(default_factory=list)


def with_words(
    pdf: bytes, languages: tuple[str, ...], name: str = "", tell: Callable[[int], None] = lambda page: None
) -> Scanned:
    """A PDF with an invisible layer of words on each page that has a picture and no text in it. `tell` is told of each
    page before it is read. Never fails: what could not be recognised is a note, and the PDF is as it was."""
    import pikepdf
    import pypdfium2

    scanned = Scanned(pdf)
    try:
        with pypdfium2.PdfDocument(pdf) as document:
            places = {}
            for number in range(min(len(document), MOST_PAGES)):
                boxes = pictures_without_text(document[number])
                if boxes:
                    places[number] = boxes
            if not places:
                return scanned
            program = recogniser(languages)
            layers, sure = {}, []
            for number, boxes in places.items():
                tell(number + 1)
                words = _read(program, document[number], boxes)
                if words:
                    layers[number] = [placed for placed, _ in words]
                    mean = sum(word.confidence for _, word in words) / len(words)
                    sure += [word.confidence for _, word in words]
                    if mean < _UNSURE:
                        scanned.notes.append(Note("text-unsure", f"{name[:80]}, page {number + 1}: {mean:.0f} %"))
                else:
                    scanned.notes.append(Note("text-unrecognised", f"{name[:80]}, page {number + 1}"))
        if layers:
            with pikepdf.open(io.BytesIO(pdf)) as target:
                own = layer.font(target)
                for number, placed in layers.items():
                    layer.add(target, target.pages[number], placed, own)
                out = io.BytesIO()
                target.save(out, deterministic_id=True)
            scanned.pdf, scanned.pages, scanned.words = out.getvalue(), len(layers), len(sure)
            scanned.text = "\n".join(" ".join(placed.text for placed in page) for page in layers.values())
            scanned.confidence = sum(sure) / len(sure)
            about = f"{program.name}, {'+'.join(languages)}, {len(layers)} pages, {scanned.confidence:.0f} %"
            scanned.notes.insert(0, Note("text-recognised", f"{name[:80]}: {about}"))
    except (PageError, pypdfium2.PdfiumError, pikepdf.PdfError, ValueError, RuntimeError, MemoryError) as error:
        return Scanned(pdf, notes=[Note("text-unrecognised", f"{name[:80]}: {str(error)[:150]}")])
    return scanned


def pictures_without_text(page: Any) -> list[Box]:
    """The boxes of a page's pictures that are large enough to be read and have no text in them."""
    from pypdfium2.raw import FPDF_PAGEOBJ_IMAGE

    width, height = page.get_size()
    area = max(1.0, width * height)
    boxes: list[Box] = []
    text = None
    for image in page.get_objects(filter=[FPDF_PAGEOBJ_IMAGE], max_depth=6):
        left, bottom, right, top = image.get_bounds()
        if (right - left) * (top - bottom) < _LEAST * area or len(boxes) > 500:
            continue
        text = text or page.get_textpage()
        inside = text.get_text_bounded(left + 1, bottom + 1, right - 1, top - 1)
        if len(_LETTERS.findall(inside)) < 3:
            boxes.append((left, bottom, right, top))
    return boxes


def _read(program: Recogniser, page: Any, boxes: list[Box]) -> list[tuple[layer.Placed, Word]]:
    """The words in pictures of a page, each with its place on it. Raises PageError."""
    image, to_page, dpi = _drawn(page, boxes)
    grainy = cleaning.is_grainy(image)
    best = _best_way(program, cleaning.cleaned(image, grainy), to_page, dpi)
    if not grainy and best and _mean(_words(best)) < _DOUBTFUL:  # specks on white paper do not show in its shades
        other = _best_way(program, cleaning.cleaned(image, True), to_page, dpi)
        best = other if _weight(_words(other)) > _weight(_words(best)) else best
    placed = []
    for word, there in best:
        left, top, right, bottom = word.box
        point = layer.Placed(word.text, there(left, bottom), there(right, bottom), there(left, top))
        middle = there((left + right) / 2, (top + bottom) / 2)
        if any(box[0] - 2 <= middle[0] <= box[2] + 2 and box[1] - 2 <= middle[1] <= box[3] + 2 for box in boxes):
            placed.append((point, word))
    return placed


def _best_way(program: Recogniser, image: Any, to_page: Affine, dpi: int) -> list[tuple[Word, Affine]]:
    """The words of a picture as it is read best of its four ways up, each with the way to its place on the page."""
    best: list[tuple[Word, Affine]] = []
    ways = [0, 2, 1, 3]
    while ways:
        upright, back = cleaning.turned(image, ways.pop(0))
        level, slope = cleaning.levelled(upright)
        words = [word for word in program.words(level, dpi, PAGE_SECONDS) if word.confidence > 0]
        if _sideways(words):
            ways = [quarters for quarters in ways if quarters % 2]
            continue
        there = slope.then(back).then(to_page)
        if _weight(words) > _weight(_words(best)):
            best = [(word, there) for word in words]
        if best and _mean(_words(best)) >= _ENOUGH:
            break
    return best


def _words(placed: list[tuple[Word, Affine]]) -> list[Word]:
    return [word for word, _ in placed]


def _mean(words: list[Word]) -> float:
    """How sure the program is of words, the longer ones counting more."""
    letters = sum(len(word.text) for word in words)
    return sum(word.confidence * len(word.text) for word in words) / letters if letters else 0.0


def _sideways(words: list[Word]) -> bool:
    """Whether words stand on their ends: the program reads such pages too, and tells no direction."""
    long = [word.box for word in words if len(word.text) > 2]
    tall = sum(bottom - top > 1.2 * (right - left) for left, top, right, bottom in long)
    return tall * 2 > len(long)


def _weight(words: list[Word]) -> float:
    """How much a reading is worth: letters, by how sure each is."""
    return sum(len(word.text) * max(0.0, word.confidence - 30) for word in words)


def _drawn(page: Any, boxes: list[Box]) -> tuple[Any, Affine, int]:
    """The part of a page with pictures as a reader sees it, the way from its pixels to points of the page, and its
    resolution in dots an inch."""
    left, bottom = min(box[0] for box in boxes), min(box[1] for box in boxes)
    right, top = max(box[2] for box in boxes), max(box[3] for box in boxes)
    x0, y0, x1, y1 = page.get_cropbox()
    left, bottom, right, top = max(left, x0), max(bottom, y0), min(right, x1), min(top, y1)
    if right - left < 5 or top - bottom < 5:
        raise PageError("its pictures lie outside the page")
    scale = min(_DPI / 72, (_MOST_PIXELS / ((right - left) * (top - bottom))) ** 0.5)
    turn = page.get_rotation() % 360
    # what to leave out on each side of the page as it is shown
    sides = (left - x0, bottom - y0, x1 - right, y1 - top)
    quarter = turn // 90
    crop = {
        0: sides,
        1: (sides[1], sides[2], sides[3], sides[0]),
        2: (sides[2], sides[3], sides[0], sides[1]),
        3: (sides[3], sides[0], sides[1], sides[2]),
    }[quarter]
    image = page.render(scale=scale, crop=tuple(max(0, side) for side in crop), grayscale=True).to_pil()
    step = 1 / scale
    there = {
        0: Affine(step, 0, left, 0, -step, top),
        1: Affine(0, step, left, step, 0, bottom),
        2: Affine(-step, 0, right, 0, step, bottom),
        3: Affine(0, -step, right, -step, 0, top),
    }[quarter]
    return image, there, round(scale * 72)
