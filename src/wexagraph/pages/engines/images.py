"""Pictures as a PDF holds them (ISO 32000-2, section 8.9.5): a PNG as it is packed already where that can be, else the
pixels packed anew."""

from __future__ import annotations

import io
import warnings
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wexagraph.deflating import LEVEL, deflate

if TYPE_CHECKING:
    from PIL.Image import Image

_LEAST_PIXELS = 40_000
_MOST_SIDE = 65_000  # a JPEG that stands for it holds no more
_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_GREY, _RGB = b"/DeviceGray", b"/DeviceRGB"
_PALETTE, _RGBA = 3, 6
_COLOURS = {0: (_GREY, 1), 2: (_RGB, 3), _PALETTE: (b"[/Indexed /DeviceRGB %d <%s>]", 1), _RGBA: (_RGB, 4)}
"""Colour types of PNG that PDF can hold with the filters they have: colour space, samples of a pixel."""


@dataclass(frozen=True)
class Layer:
    """Colours or alpha of a picture as a PDF holds them, deflated."""

    space: bytes
    data: bytes
    depth: int = 8
    predicted: int = 0
    """Samples of a pixel where each row is filtered as in a PNG, else 0."""


@dataclass(frozen=True)
class PdfImage:
    """A picture: its size in pixels, its colours, and its alpha channel where some of it is transparent."""

    width: int
    height: int
    colours: Layer
    alpha: Layer | None = None

    def stream(self, layer: Layer, more: bytes = b"") -> bytes:
        """A layer as an image XObject (ISO 32000-2, section 8.9.5)."""
        entries = b"/Width %d /Height %d /ColorSpace %s /BitsPerComponent %d /Interpolate true" % (
            self.width,
            self.height,
            layer.space,
            layer.depth,
        )
        if layer.predicted:
            row = b"/Predictor 15 /Colors %d /BitsPerComponent %d /Columns %d"
            entries += b" /DecodeParms << %s >>" % (row % (layer.predicted, layer.depth, self.width))
        head = b"<< /Type /XObject /Subtype /Image %s%s /Filter /FlateDecode /Length %d >>"
        return head % (entries, more, len(layer.data)) + b"\nstream\n" + layer.data + b"\nendstream"


def pdf_image(content: bytes) -> PdfImage | None:
    """A picture as a PDF holds it; None for one that is small, damaged, or of a kind that is better left alone."""
    from PIL import Image

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(content), formats=["PNG", "BMP", "WEBP"]) as image:
                width, height = image.size
                if width * height < _LEAST_PIXELS or max(width, height) > _MOST_SIDE:
                    return None
                return _as_packed(content) or _of_pixels(image)
    except (OSError, ValueError, SyntaxError, MemoryError, EOFError, Image.DecompressionBombError):
        return None


def _of_pixels(image: Image) -> PdfImage | None:
    if image.mode not in ("1", "L", "LA", "P", "RGB", "RGBA"):
        return None
    pixels, alpha = image.convert("RGBA"), None
    channel = pixels.getchannel("A")
    if channel.getextrema() != (255, 255):
        alpha = Layer(_GREY, _deflated(channel.tobytes()))
    return PdfImage(*image.size, Layer(_RGB, _deflated(pixels.convert("RGB").tobytes())), alpha)


def _as_packed(png: bytes) -> PdfImage | None:
    """A PNG as it is packed, for its filters are those of PDF (ISO/IEC 15948 section 9, ISO 32000-2 section 7.4.4.4).

    None for what PDF can't hold so: interlaced, of 16 bits, with one colour or some that are transparent, or damaged.
    """
    if not png.startswith(_SIGNATURE):
        return None
    chunks: defaultdict[bytes, list[bytes]] = defaultdict(list)
    for kind, content in _chunks(png):
        chunks[kind].append(content)
    header, palette, data = (b"".join(chunks[kind]) for kind in (b"IHDR", b"PLTE", b"IDAT"))
    if len(header) != 13 or b"tRNS" in chunks:
        return None
    width, height = int.from_bytes(header[:4], "big"), int.from_bytes(header[4:8], "big")
    depth, colour, _, _, interlaced = header[8:]
    if depth > 8 or interlaced or colour not in _COLOURS or (colour == _PALETTE and len(palette) < 3):
        return None
    space, samples = _COLOURS[colour]
    if colour == _PALETTE:
        space %= (len(palette) // 3 - 1, palette.hex().encode("ascii"))
    row = 1 + (width * samples * depth + 7) // 8
    try:
        plain = deflate.decompressobj().decompress(data, row * height + 1)
    except deflate.error:
        return None
    if len(plain) != row * height or max(plain[::row]) > 4:
        return None
    if colour == _RGBA:
        return _parted(width, height, plain)
    return PdfImage(width, height, Layer(space, data, depth, samples))


def _parted(width: int, height: int, plain: bytes) -> PdfImage:
    """An unpacked PNG of RGBA with alpha and colours apart. Filters work on each channel for itself, so they stay."""
    from PIL import Image

    row = 1 + width * 4
    filters = plain[::row]
    image = Image.frombytes("RGBA", (width, height), memoryview(plain)[1:], "raw", "RGBA", row)

    def rows(channels: str) -> bytes:
        """These channels of each row, and in front of it what it is filtered with."""
        length = 1 + width * len(channels)
        data = bytearray(1) + image.tobytes("raw", channels, length)
        data[: len(data) - 1 : length] = filters
        return bytes(data[:-1])

    colours, alpha = rows("RGB"), rows("A")
    transparent = None if _is_opaque(alpha, width) else Layer(_GREY, _deflated(alpha), 8, 1)
    return PdfImage(width, height, Layer(_RGB, _deflated(colours), 8, 3), transparent)


def _is_opaque(alpha: bytes, width: int) -> bool:
    """Whether a filtered alpha channel is 255 everywhere: each row is what its filter makes of that."""
    full, none, begun = b"\xff" * width, bytes(width), b"\xff" + bytes(width - 1)
    first = (full, begun, full, b"\xff" + b"\x80" * (width - 1), begun)
    others = (full, begun, none, b"\x80" + bytes(width - 1), none)
    rows = (alpha[at : at + width + 1] for at in range(0, len(alpha), width + 1))
    return all(row[1:] == (others if n else first)[row[0]] for n, row in enumerate(rows))


def _deflated(data: bytes) -> bytes:
    return bytes(deflate.compress(data, LEVEL))


def _chunks(png: bytes) -> Iterator[tuple[bytes, bytes]]:
    at = len(_SIGNATURE)
    while at + 12 <= len(png):
        length = int.from_bytes(png[at : at + 4], "big")
        yield png[at + 4 : at + 8], png[at + 8 : at + 8 + length]
        at += 12 + length
