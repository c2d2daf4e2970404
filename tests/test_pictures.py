"""Pictures in a PDF are those of the message, to the pixel, however they were packed."""

from __future__ import annotations

import io
import unittest
import zlib
from itertools import pairwise, product

import pikepdf
import pypdfium2
from PIL import Image

from wexagraph.demo.build import file, html, message, multipart, when
from wexagraph.pages.engines.pluto import StandIns
from wexagraph.pages.make import Job, make
from wexagraph.pages.options import PageOptions

SIZE = (260, 180)


def picture(mode: str) -> Image.Image:
    """A picture with plain and busy places, and in modes with an alpha channel with clear ones."""
    colours = Image.linear_gradient("L").resize(SIZE), Image.radial_gradient("L").resize(SIZE), Image.new("L", SIZE, 90)
    image = Image.merge("RGB", colours)
    image.paste((200, 30, 30), (40, 40, 120, 100))
    if mode.endswith("A"):
        image.putalpha(Image.radial_gradient("L").resize(SIZE))
    return image.convert(mode)


def packed(image: Image.Image, kind: str = "PNG", **options: object) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def filtered(image: Image.Image, number: int) -> bytes:
    """A PNG of RGBA of which each row has the same filter (ISO/IEC 15948, section 9.2)."""
    width, height = image.size
    rows = [bytes(width * 4), *(image.tobytes()[n * width * 4 : (n + 1) * width * 4] for n in range(height))]
    data = bytearray()
    for above, row in pairwise(rows):
        data.append(number)
        for at, value in enumerate(row):
            left, corner = (row[at - 4], above[at - 4]) if at >= 4 else (0, 0)
            guess = left + above[at] - corner
            nearest = min((left, above[at], corner), key=lambda known: abs(guess - known))
            data.append((value - (0, left, above[at], (left + above[at]) // 2, nearest)[number]) & 255)
    head = width.to_bytes(4, "big") + height.to_bytes(4, "big") + b"\x08\x06\0\0\0"
    chunks = ((b"IHDR", head), (b"IDAT", zlib.compress(data)), (b"IEND", b""))
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        len(content).to_bytes(4, "big") + name + content + zlib.crc32(name + content).to_bytes(4, "big")
        for name, content in chunks
    )


def page_with(*contents: tuple[str, bytes], style: str = "") -> tuple[bytes, set[str]]:
    files = [file(f"p{n}.x", kind, content, cid=f"p{n}@x") for n, (kind, content) in enumerate(contents)]
    body = "".join(f'<p><img src="cid:p{n}@x" style="{style}"></p>' for n in range(len(contents)))
    data = message(
        "a@saltmere.example",
        "b@saltmere.example",
        "Plans",
        when("2026-03-14"),
        multipart("related", html(body), *files),
    )
    made = make(Job(data, ("pdf",), PageOptions()))
    return made.files["pdf"], {note.code for note in made.notes}


def shown(pdf: bytes) -> list[Image.Image]:
    """The pictures of a PDF with their alpha channels, as another reader unpacks them."""
    images = []
    with pikepdf.open(io.BytesIO(pdf)) as document:
        streams = [
            each for each in document.objects if isinstance(each, pikepdf.Stream) and each.get("/Subtype") == "/Image"
        ]
        masks = {each.SMask.objgen for each in streams if "/SMask" in each}
        for each in streams:
            if each.objgen not in masks:
                image = pikepdf.PdfImage(each).as_pil_image().convert("RGBA")
                if "/SMask" in each:
                    image.putalpha(pikepdf.PdfImage(each.SMask).as_pil_image().convert("L"))
                images.append(image)
    return images


class Pixels(unittest.TestCase):
    def same(self, content: bytes, what: object, kind: str = "image/png", **options: str) -> bytes:
        pdf, codes = page_with((kind, content), **options)
        self.assertEqual(codes, set(), what)
        (image,) = shown(pdf)
        with Image.open(io.BytesIO(content)) as wanted:
            expected = wanted.convert("RGBA")
        clear = Image.new("RGBA", SIZE)  # what is quite clear has no colour
        self.assertEqual(
            Image.alpha_composite(clear, image).tobytes(), Image.alpha_composite(clear, expected).tobytes(), what
        )
        return pdf

    def test_png_of_every_kind(self) -> None:
        for mode in ("1", "L", "LA", "P", "RGB", "RGBA"):
            self.same(packed(picture(mode)), mode)
        self.same(packed(picture("RGB").quantize(8), bits=4), "16 colours")
        self.same(packed(picture("P"), transparency=3), "one colour of a palette is clear")
        self.same(packed(picture("RGB"), transparency=(200, 30, 30)), "one colour is clear")
        self.same(packed(picture("RGBA"), "WEBP", lossless=True), "WebP", "image/webp")
        self.same(packed(picture("RGB"), "BMP"), "BMP", "image/bmp")

    def test_each_filter_with_alpha_and_without(self) -> None:
        solid = picture("RGB").convert("RGBA")
        for number, image in product(range(5), (picture("RGBA"), solid)):
            pdf = self.same(filtered(image, number), (number, image is solid))
            self.assertEqual(b"/SMask" in pdf, image is not solid)

    def test_as_it_is_packed(self) -> None:
        content = packed(picture("RGB"))
        begin = content.index(b"IDAT") + 4
        length = int.from_bytes(content[begin - 8 : begin - 4], "big")
        pdf = self.same(content, "nothing is packed anew", style="opacity:.5;width:90px;border-radius:9px")
        self.assertIn(content[begin : begin + length], pdf)
        self.assertNotIn(b"/DCTDecode", pdf)

    def test_the_same_picture_twice_and_several(self) -> None:
        first, second = packed(picture("RGB")), packed(picture("RGBA"))
        pdf, _ = page_with(*(("image/png", content) for content in (first, second, first)))
        self.assertEqual(
            {image.getpixel((50, 50)) for image in shown(pdf)}, {(200, 30, 30, 255), picture("RGBA").getpixel((50, 50))}
        )

    def test_damaged_and_deceiving_pictures(self) -> None:
        whole = packed(picture("RGB"))
        wide = bytearray(whole)
        wide[18:20] = (300).to_bytes(2, "big")  # more is promised than there is
        grey = StandIns({"": ("image/png", whole)}).resources[""][1]
        for content in (whole[:2000], whole[:40], bytes(wide), grey):
            pdf, _ = page_with(("image/png", whole), ("image/png", content))
            with pikepdf.open(io.BytesIO(pdf)) as document:
                self.assertEqual(document.check_pdf_syntax(), [])
            sheet = pypdfium2.PdfDocument(pdf)[0].render(scale=1).to_pil().convert("RGB")
            self.assertIn((200, 30, 30), {colour for _, colour in sheet.getcolors(1 << 20)})
