"""Pages that are pictures without text: found, recognised, and given an invisible layer of words."""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from wexagraph.errors import PageError
from wexagraph.languages import SMALL_WORDS
from wexagraph.notes import Note
from wexagraph.pages.scans import layer
from wexagraph.pages.scans.engines import Recogniser, Word, recogniser

_STEEPEST, _STEP, _LEAST_SLOPE = 5.0, 0.25, 0.3
_SMALL = 700
_NEAR = 8  # shades of 256
PAGE_SECONDS = 60.0
MOST_PAGES = 1000
_DPI, _MOST_PIXELS = 300, 25_000_000
_LEAST = 0.02  # of a page that a picture covers, to be read
_UNSURE = 60.0  # percent: below it, a page is named
_ENOUGH = 75.0  # percent: above it, a page is surely upright
_UNCLEAR = 94.0  # percent: below it, a page is read by its likeliest language alone as well
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
                words = _read(languages, document[number], boxes)
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


def _read(languages: tuple[str, ...], page: Any, boxes: list[Box]) -> list[tuple[layer.Placed, Word]]:
    """The words in pictures of a page, each with its place on it. Raises PageError."""
    image, to_page, dpi = _drawn(page, boxes)
    order = _in_order(languages)
    best = _readings(recogniser(order), image, to_page, dpi)
    likeliest = _likeliest(best, order)
    others = []
    if likeliest != order[0]:  # what comes first decides where two could be meant
        others.append((likeliest, *(one for one in order if one != likeliest)))
    if len(order) > 1 and _mean(_words(best)) < _UNCLEAR:  # and letters of another language are read into specks
        others.append((likeliest,))
    for languages in others:
        other = _readings(recogniser(languages), image, to_page, dpi)
        best = other if _weight(_words(other)) >= _weight(_words(best)) else best
    placed = []
    for word, there in best:
        left, top, right, bottom = word.box
        point = layer.Placed(word.text, there(left, bottom), there(right, bottom), there(left, top))
        middle = there((left + right) / 2, (top + bottom) / 2)
        if any(box[0] - 2 <= middle[0] <= box[2] + 2 and box[1] - 2 <= middle[1] <= box[3] + 2 for box in boxes):
            placed.append((point, word))
    return placed


def _readings(program: Recogniser, image: Any, to_page: Affine, dpi: int) -> list[tuple[Word, Affine]]:
    """The words of a picture, cleaned as far as that helps."""
    grainy = is_grainy(image)
    best = _best_way(program, cleaned(image, grainy), to_page, dpi)
    if not grainy and best and _mean(_words(best)) < _DOUBTFUL:  # specks on white paper do not show in its shades
        other = _best_way(program, cleaned(image, True), to_page, dpi)
        best = other if _weight(_words(other)) > _weight(_words(best)) else best
    return best


def _in_order(languages: tuple[str, ...]) -> tuple[str, ...]:
    """Languages as they are tried first, in whichever order they were named: those with letters of their own before
    English, whose letters all others have."""
    return tuple(sorted(languages, key=lambda one: (one == "eng", one)))


def _likeliest(placed: list[tuple[Word, Affine]], order: tuple[str, ...]) -> str:
    """The language whose small words stand most often on a page; the first where none do."""
    words = Counter(word.text.strip(".,;:!?()").lower() for word, _ in placed)
    return max(order, key=lambda one: sum(words[small] for small in SMALL_WORDS.get(one, "").split()))


def _best_way(program: Recogniser, image: Any, to_page: Affine, dpi: int) -> list[tuple[Word, Affine]]:
    """The words of a picture as it is read best of its four ways up, each with the way to its place on the page."""
    best: list[tuple[Word, Affine]] = []
    ways = [0, 2, 1, 3]
    while ways:
        upright, back = turned(image, ways.pop(0))
        level, slope = levelled(upright)
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


class Affine(NamedTuple):
    """x' = a x + b y + c, y' = d x + e y + f."""

    a: float
    b: float
    c: float
    d: float
    e: float
    f: float

    def __call__(self, x: float, y: float) -> tuple[float, float]:
        return self.a * x + self.b * y + self.c, self.d * x + self.e * y + self.f

    def then(self, other: Affine) -> Affine:
        """This, and then the other."""
        a, d = other.a * self.a + other.b * self.d, other.d * self.a + other.e * self.d
        b, e = other.a * self.b + other.b * self.e, other.d * self.b + other.e * self.e
        c, f = other(self.c, self.f)
        return Affine(a, b, c, d, e, f)


UNCHANGED = Affine(1, 0, 0, 0, 1, 0)


def cleaned(image: Any, grainy: bool) -> Any:
    """The picture in grey, and without grain where it is `grainy`."""
    from PIL import ImageFilter

    grey = image.convert("L")
    if grainy:
        grey = grey.filter(ImageFilter.MedianFilter(3))
    return grey.filter(ImageFilter.GaussianBlur(0.8))


def is_grainy(image: Any) -> bool:
    """Whether paper is not of one shade: less than half of the picture is near to the shade that is most frequent."""
    counts = image.convert("L").histogram()
    peak = counts.index(max(counts))
    return bool(sum(counts[max(0, peak - _NEAR) : peak + _NEAR + 1]) < sum(counts) / 2)


def turned(image: Any, quarters: int) -> tuple[Any, Affine]:
    """The picture turned clockwise by quarters, and the way from its pixels back to those of the original."""
    from PIL import Image

    width, height = image.size
    if quarters == 1:
        return image.transpose(Image.Transpose.ROTATE_270), Affine(0, 1, 0, -1, 0, height)
    if quarters == 2:
        return image.transpose(Image.Transpose.ROTATE_180), Affine(-1, 0, width, 0, -1, height)
    if quarters == 3:
        return image.transpose(Image.Transpose.ROTATE_90), Affine(0, -1, width, 1, 0, 0)
    return image, UNCHANGED


def levelled(image: Any) -> tuple[Any, Affine]:
    """The picture with its lines of text level, and the way from its pixels back to those of the original."""
    from math import cos, radians, sin

    angle = _slope(image)
    if abs(angle) < _LEAST_SLOPE:
        return image, UNCHANGED
    from PIL import Image

    width, height = image.size
    level = image.rotate(angle, Image.Resampling.BICUBIC, fillcolor=255)
    # Pillow turns counterclockwise about the centre; y points down
    x, y, cosine, sine = width / 2, height / 2, cos(radians(angle)), sin(radians(angle))
    return level, Affine(cosine, -sine, x - cosine * x + sine * y, sine, cosine, y - sine * x - cosine * y)


def _slope(image: Any) -> float:
    """By how many degrees lines of text sink to the right: where rows of pixels are emptiest and fullest."""
    import numpy
    from PIL import Image

    scale = min(1.0, _SMALL / max(image.size))
    small = image.resize((max(1, round(image.width * scale)), max(1, round(image.height * scale))))
    grey = numpy.asarray(small, dtype=numpy.float32)
    if min(grey.shape) < 40 or float(grey.std()) < 4:
        return 0.0
    dark = Image.fromarray(((grey < grey.mean() - grey.std() / 2) * 255).astype(numpy.uint8))

    def sharpness(angle: float) -> float:
        rows = numpy.asarray(dark.rotate(angle, Image.Resampling.BILINEAR), dtype=numpy.float32).sum(axis=1)
        return float(numpy.square(numpy.diff(rows)).sum())

    steps = int(_STEEPEST / (4 * _STEP))
    rough = max((step * 4 * _STEP for step in range(-steps, steps + 1)), key=sharpness)
    return max((rough + step * _STEP for step in range(-3, 4)), key=lambda angle: (sharpness(angle), -abs(angle)))
