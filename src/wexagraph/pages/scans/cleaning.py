"""A picture made ready for recognising: grey, without grain, upright, its lines level. Only the program sees it."""

from __future__ import annotations

from typing import Any, NamedTuple

_STEEPEST, _STEP, _LEAST = 5.0, 0.25, 0.3
_SMALL = 700
_NEAR = 8  # shades of 256


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
    if abs(angle) < _LEAST:
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
