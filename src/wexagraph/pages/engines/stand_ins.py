"""Pictures that go round the engine.

The engine packs each picture anew, all but JPEG, which takes most of the time of a page with a screenshot on it. So it
gets a grey JPEG of the same size for each larger picture, and hands that through as it is; in the PDF the picture comes
in its place: a PNG as it is packed already where PDF can hold it so, else its pixels (ISO 32000-2, section 8.9.5).
"""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from hashlib import sha256
from typing import TYPE_CHECKING

from wexagraph.deflating import LEVEL, deflate
from wexagraph.pages.file_structure import Change, changed, trailer

if TYPE_CHECKING:
    from PIL.Image import Image

_LEAST_PIXELS = 40_000
_MOST_SIDE = 65_000  # a JPEG holds no more
_PACKED = ("image/png", "image/bmp", "image/webp")
_MARK = b"-" * 64
_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_GREY, _RGB = b"/DeviceGray", b"/DeviceRGB"
_PALETTE, _RGBA = 3, 6
_COLOURS = {0: (_GREY, 1), 2: (_RGB, 3), _PALETTE: (b"[/Indexed /DeviceRGB %d <%s>]", 1), _RGBA: (_RGB, 4)}
"""Colour types of PNG that PDF can hold with the filters they have: colour space, samples of a pixel."""
_HEAD = re.compile(rb"(\d+) 0 obj\s*<<([^<>]*)>>\s*stream\r?\n\Z")
_END = b"endobj"


@dataclass(frozen=True)
class _Layer:
    """Colours or alpha of a picture as a PDF holds them, deflated."""

    space: bytes
    data: bytes
    depth: int = 8
    predicted: int = 0
    """Samples of a pixel where each row is filtered as in a PNG, else 0."""


@dataclass(frozen=True)
class _Picture:
    width: int
    height: int
    colours: _Layer
    alpha: _Layer | None = None

    def stream(self, layer: _Layer, more: bytes = b"") -> bytes:
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


class StandInLost(Exception):
    """A grey picture can't be found in the PDF: the page is to be set with the pictures themselves."""


class StandIns:
    """`resources` are grey pictures, under the names that some of a page's resources have."""

    def __init__(self, resources: dict[str, tuple[str, bytes]]) -> None:
        self.resources: dict[str, tuple[str, bytes]] = {}
        self._pictures: dict[bytes, _Picture] = {}
        for name, (kind, content) in resources.items():
            picture = _picture(content) if kind in _PACKED else None
            if picture is not None:
                grey = _grey(picture.width, picture.height).replace(_MARK, sha256(content).hexdigest().encode("ascii"))
                self._pictures[grey] = picture
                self.resources[name] = ("image/jpeg", grey)

    def put_back(self, pdf: bytes) -> bytes:
        """The PDF with the pictures in the places of the grey ones. Raises StandInLost."""
        if not self._pictures:
            return pdf
        end = trailer(pdf)
        if end is None:
            raise StandInLost
        changes: list[Change] = []
        added: list[bytes] = []
        for grey, picture in self._pictures.items():
            for begin, behind, number in _objects(pdf, grey):
                mask = b""
                if picture.alpha:
                    mask = b" /SMask %d 0 R" % (end.size + len(added))
                    added.append(picture.stream(picture.alpha))
                content = picture.stream(picture.colours, mask)
                changes.append(Change(begin, behind, b"%s 0 obj\n%s\nendobj" % (number, content)))
        try:
            return changed(pdf, end, changes, added)
        except ValueError as error:
            raise StandInLost from error


def _objects(pdf: bytes, grey: bytes) -> Iterator[tuple[int, int, bytes]]:
    """The objects that hold a grey picture, at least one: where each begins and ends, and its number."""
    at = pdf.find(grey)
    if at < 0:
        raise StandInLost
    while at >= 0:
        head = _HEAD.search(pdf, max(0, at - 400), at)
        if head is None:
            raise StandInLost
        end = pdf.index(_END, at + len(grey)) + len(_END)
        yield head.start(), end, head[1]
        at = pdf.find(grey, end)


@lru_cache(maxsize=8)
def _grey(width: int, height: int) -> bytes:
    """A JPEG of that size, with `_MARK` in it."""
    from PIL import Image

    out = io.BytesIO()
    Image.new("L", (width, height), 128).save(out, "JPEG", quality=10, comment=_MARK)
    return out.getvalue()


def _picture(content: bytes) -> _Picture | None:
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


def _of_pixels(image: Image) -> _Picture | None:
    if image.mode not in ("1", "L", "LA", "P", "RGB", "RGBA"):
        return None
    pixels, alpha = image.convert("RGBA"), None
    channel = pixels.getchannel("A")
    if channel.getextrema() != (255, 255):
        alpha = _Layer(_GREY, _deflated(channel.tobytes()))
    return _Picture(*image.size, _Layer(_RGB, _deflated(pixels.convert("RGB").tobytes())), alpha)


def _as_packed(png: bytes) -> _Picture | None:
    """A PNG as it is packed, for its filters are those of PDF (ISO/IEC 15948 section 9, ISO 32000-2 section 7.4.4.4).

    None for what PDF can't hold so: interlaced, of 16 bits, with one colour or some that are transparent, or damaged.
    """
    if not png.startswith(_SIGNATURE):
        return None
    chunks: dict[bytes, bytes] = {}
    for kind, content in _chunks(png):
        chunks[kind] = chunks.get(kind, b"") + content
    header, palette, data = (chunks.get(kind, b"") for kind in (b"IHDR", b"PLTE", b"IDAT"))
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
    return _Picture(width, height, _Layer(space, data, depth, samples))


def _parted(width: int, height: int, plain: bytes) -> _Picture:
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
    transparent = None if _is_opaque(alpha, width) else _Layer(_GREY, _deflated(alpha), 8, 1)
    return _Picture(width, height, _Layer(_RGB, _deflated(colours), 8, 3), transparent)


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
