"""A page of a tagged PDF as a picture, with the order in which it is read drawn over it, and what is read beside it: for
a picture of the documents."""

from __future__ import annotations

import sys
from typing import Any

import pypdfium2
import pypdfium2.raw as pdfium
from PIL import Image, ImageDraw, ImageFont

from tests.tagged_pdf import kind_of, marked

_WIDTH, _HEIGHT = 1280, 800
_BLUE, _INK, _QUIET = (11, 92, 138), (22, 34, 43), (91, 110, 122)


def main() -> None:
    path, target = sys.argv[1:]
    with pypdfium2.PdfDocument(path) as document:
        page = document[0]
        scale = _HEIGHT / page.get_height()
        picture = Image.new("RGB", (_WIDTH, _HEIGHT), "#fbfcfd")
        picture.paste(page.render(scale=scale).to_pil().convert("RGB"), (0, 0))
        said, boxes = marked(page), _boxes(page)
        pen = ImageDraw.Draw(picture)
        small, text = (ImageFont.truetype("DejaVuSans.ttf", size) for size in (9, 12))
        left, line = int(page.get_width() * scale) + 24, 18
        tree = pdfium.FPDF_StructTree_GetForPage(page.raw)
        rows = _rows(pdfium.FPDF_StructTree_GetChildAtIndex(tree, 0), 0)
        for row, (depth, kind, content) in enumerate(rows):
            if row * line > _HEIGHT - 2 * line:
                pen.text((left, 8 + row * line), "...", _QUIET, text)
                break
            words = " ".join(said.get(content, "").split()) if content is not None else ""
            number = "" if content is None else f"{content + 1}"
            pen.text((left, 8 + row * line), number, _BLUE, text)
            pen.text((left + 30 + 16 * depth, 8 + row * line), kind, _INK, text)
            pen.text((left + 90 + 16 * depth, 8 + row * line), words[: 70 - 2 * depth], _QUIET, text)
            if content in boxes:
                low, bottom, high, top = (each * scale for each in boxes[content])
                pen.rectangle((low - 2, _HEIGHT - top - 2, high + 2, _HEIGHT - bottom + 2), outline=_BLUE)
                pen.text((max(2, low - 18), _HEIGHT - top - 3), number, _BLUE, small)
        picture.save(target)


def _boxes(page: Any) -> dict[int, tuple[float, float, float, float]]:
    """Where the content of each number stands."""
    boxes: dict[int, tuple[float, float, float, float]] = {}
    for item in page.get_objects(max_depth=9):
        number = pdfium.FPDFPageObj_GetMarkedContentID(item.raw)
        box = item.get_bounds()
        if number >= 0:
            held = boxes.get(number, box)
            boxes[number] = (min(held[0], box[0]), min(held[1], box[1]), max(held[2], box[2]), max(held[3], box[3]))
    return boxes


def _rows(element: Any, depth: int) -> list[tuple[int, str, int | None]]:
    """Each element, with its first content where that comes first; further content in rows of their own."""
    rows: list[tuple[int, str, int | None]] = [(depth, kind_of(element), None)]
    for number in range(pdfium.FPDF_StructElement_CountChildren(element)):
        child = pdfium.FPDF_StructElement_GetChildAtIndex(element, number)
        content = pdfium.FPDF_StructElement_GetChildMarkedContentID(element, number)
        if child:
            rows += _rows(child, depth + 1)
        elif content >= 0 and len(rows) == 1 and rows[0][2] is None:
            rows[0] = (*rows[0][:2], content)
        elif content >= 0:
            rows.append((depth + 1, "", content))
    return rows


if __name__ == "__main__":
    main()
