"""Pictures of paper: pages of words drawn by Pillow, with what happens to scans."""

from __future__ import annotations

import io
import random
from pathlib import Path
from typing import NamedTuple

import matplotlib
from PIL import Image, ImageDraw, ImageFilter, ImageFont

ENGLISH = (
    "the barge leaves berth four on friday at nine and the harbour master has asked that crane two be ready when the tide "
    "turns pilot launches mooring buoy dredging contract survey ledger quay permit slipway cormorant inspection"
).split()
GERMAN = (
    "der kahn verlässt den liegeplatz am freitag um neun und der hafenmeister bittet dass der kran bereit ist wenn die "
    "flut wechselt lotsen boje vertrag baggerarbeiten vermessung übersee gebühr genehmigung prüfung schlüssel"
).split()


class Drawn(NamedTuple):
    """A word on a page: its text and its box in points from the top left (left, top, right, bottom)."""

    text: str
    box: tuple[float, float, float, float]


def font(size: int) -> ImageFont.FreeTypeFont:
    """A font that Matplotlib brings along."""
    return ImageFont.truetype(Path(matplotlib.get_data_path()) / "fonts/ttf/DejaVuSerif.ttf", size)


def page(
    dpi: int = 200,
    words: list[str] = ENGLISH,
    lines: int = 40,
    seed: int = 1,
    noise: float = 0,
    skew: float = 0,
    fax: bool = False,
    size: tuple[int, int] = (595, 842),
) -> tuple[Image.Image, list[Drawn]]:
    """A page of paper (in points) as a scanner gives it, and the words on it where they stood before it was skewed."""
    rng, scale = random.Random(seed), dpi / 72
    image = Image.new("L", (round(size[0] * scale), round(size[1] * scale)), 255)
    pen, letters = ImageDraw.Draw(image), font(round(10.5 * scale))
    drawn, y = [], 50 * scale
    for _ in range(lines):
        x = 50 * scale
        while True:
            word = rng.choice(words)
            box = pen.textbbox((x, y), word, font=letters)
            if box[2] > (size[0] - 45) * scale:
                break
            pen.text((x, y), word, font=letters, fill=0)
            drawn.append(Drawn(word, tuple(each / scale for each in box)))  # type: ignore[arg-type]
            x += pen.textlength(word + " ", font=letters)
        y += 18 * scale
    if skew:
        image = image.rotate(skew, Image.Resampling.BICUBIC, fillcolor=255)
    if noise:
        grain = Image.effect_noise(image.size, noise)
        image = Image.blend(image.filter(ImageFilter.GaussianBlur(0.4)), grain, 0.35)
    return (image.point(lambda value: 255 * (value > 140)).convert("1") if fax else image), drawn


def file_of(image: Image.Image, kind: str = "PNG", dpi: int = 200, **more: object) -> bytes:
    """A picture as a file; of kind PDF, as a page that is nothing but it."""
    out = io.BytesIO()
    if kind == "PDF":
        image.save(out, kind, resolution=dpi, **more)
    else:
        image.save(out, kind, dpi=(dpi, dpi), **more)
    return out.getvalue()
