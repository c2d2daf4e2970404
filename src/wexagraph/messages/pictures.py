"""Which pictures a page can show: told from their bytes, before anything draws them."""

from __future__ import annotations

import io
import warnings

MOST_PIXELS = 40_000_000
_DRAWN = {
    "PNG": "image/png",
    "JPEG": "image/jpeg",
    "GIF": "image/gif",
    "WEBP": "image/webp",
    "BMP": "image/bmp",
}
_REDRAWN = ("TIFF", "ICO", "TGA", "PPM", "PCX")
"""What no engine opens and Pillow does: it is shown as a PNG of its first page."""


def picture_type(content: bytes) -> str | None:
    """The media type of a picture that a page can show; None for all others, and for those of too many pixels."""
    kind = _opened(content)
    return None if kind is None else _DRAWN.get(kind, "image/png")


def drawable(content: bytes) -> tuple[str, bytes] | None:
    """A picture as engines open it: its media type and bytes. None where that can't be had."""
    from PIL import Image

    kind = _opened(content)
    if kind is None or kind in _DRAWN:
        return None if kind is None else (_DRAWN[kind], content)
    out = io.BytesIO()
    try:
        with Image.open(io.BytesIO(content), formats=[kind]) as image:
            image.convert("RGBA").save(out, "PNG")
    except (OSError, ValueError, SyntaxError, MemoryError, EOFError, Image.DecompressionBombError):
        return None
    return "image/png", out.getvalue()


def _opened(content: bytes) -> str | None:
    """Pillow's name for what a picture is, from its head alone."""
    from PIL import Image

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(content), formats=[*_DRAWN, *_REDRAWN]) as image:
                width, height = image.size
                return image.format if 0 < width * height <= MOST_PIXELS else None
    except (OSError, ValueError, SyntaxError, MemoryError, EOFError, Image.DecompressionBombError):
        return None
