"""A page of a PDF as a picture, the words of its text drawn over it as a viewer marks them: for a picture of the documents."""

from __future__ import annotations

import sys

import pypdfium2
from PIL import Image, ImageDraw


def main() -> None:
    path, number, dpi, target = sys.argv[1:]
    with pypdfium2.PdfDocument(path) as document:
        page = document[int(number) - 1]
        scale, height = int(dpi) / 72, page.get_height()
        picture = page.render(scale=scale).to_pil().convert("RGBA")
        marks = Image.new("RGBA", picture.size)
        pen, text = ImageDraw.Draw(marks), page.get_textpage()
        for at in range(text.count_chars()):
            left, bottom, right, top = (each * scale for each in text.get_charbox(at, loose=True))
            pen.rectangle((left, height * scale - top, right, height * scale - bottom), fill=(40, 120, 200, 70))
        Image.alpha_composite(picture, marks).convert("RGB").save(target)


if __name__ == "__main__":
    main()
