"""Pictures that are attachments: upright, fitted to the page, never enlarged past 150 dpi."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator

from wexagraph.messages.inlined import MOST_PIXELS

_DPI = 150
MOST_FRAMES = 500
_READ = ["PNG", "JPEG", "GIF", "BMP", "WEBP", "TIFF", "HEIF"]


def frames(content: bytes) -> Iterator[tuple[str, bytes, int, int]]:
    """The pictures of a file (all pages of a TIFF, else the first): media type, bytes, width and height in CSS pixels.

    Raises ValueError where it can't be opened, or is too large.
    """
    from PIL import Image, ImageOps, ImageSequence, UnidentifiedImageError

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        _learn_heif()
        try:
            with Image.open(io.BytesIO(content), formats=_READ) as image:
                images = ImageSequence.Iterator(image) if image.format == "TIFF" else [image]
                for number, frame in enumerate(images):
                    if number == MOST_FRAMES:
                        raise ValueError(f"it has more than {MOST_FRAMES} pages")
                    if frame.width * frame.height > MOST_PIXELS:
                        raise ValueError(f"{frame.width} x {frame.height} pixels are too many")
                    upright = ImageOps.exif_transpose(frame)
                    whole = (
                        image.format in ("PNG", "JPEG")
                        and upright.size == frame.size
                        and not frame.getexif().get(0x112, 1) > 1
                    )
                    kind, data = (f"image/{str(image.format).lower()}", content) if whole else _written(upright)
                    yield kind, data, round(upright.width * 96 / _DPI), round(upright.height * 96 / _DPI)
        except UnidentifiedImageError as error:
            raise ValueError("it is no picture of a kind that can be read here") from error
        except ValueError:
            raise
        except (OSError, SyntaxError, MemoryError, EOFError, Image.DecompressionBombError, ZeroDivisionError) as error:
            raise ValueError(f"the picture can't be read: {error}") from error


def _learn_heif() -> None:
    try:
        from pillow_heif import register_heif_opener
    except ImportError:
        return
    register_heif_opener()


def _written(image: object) -> tuple[str, bytes]:
    from PIL import Image

    assert isinstance(image, Image.Image)
    out = io.BytesIO()
    if image.mode in ("RGB", "YCbCr", "CMYK"):
        image.convert("RGB").save(out, "JPEG", quality=90)
        return "image/jpeg", out.getvalue()
    if image.mode not in ("1", "L", "P", "RGBA", "LA"):
        image = (
            image.convert("RGB") if image.mode != "I;16" else image.convert("I").point(lambda v: v / 256).convert("L")
        )
    image.save(out, "PNG")
    return "image/png", out.getvalue()
