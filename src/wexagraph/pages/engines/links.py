"""Links around pictures, live on the whole picture as in a browser: the engine makes a strip as high as a line."""

from __future__ import annotations

import re
from collections.abc import Iterator

from wexagraph.pages.file_structure import (
    ANNOTATIONS,
    CONTENTS,
    NUMBER,
    objects_in_streams,
    stream_of,
    trailer,
    with_objects,
)

Box = tuple[float, float, float, float]
"""Left, bottom, right, top in points."""
_PAGE = re.compile(rb"<< /Type /Page\b")
_RECTANGLE = re.compile(rb"/Rect \[ ([^\]]*)\]")
_QUADS = re.compile(rb"/QuadPoints \[ ([^\]]*)\]")
_STRING = re.compile(rb"\((?:[^()\\]|\\.)*\)|<[0-9A-Fa-f\s]*>", re.DOTALL)
_DRAWN = re.compile(rb"(?<!\S)(?:(q)|(Q)|((?:-?[\d.]+\s+){6})cm|((?:-?[\d.]+\s+){4})re\s+W\s+n)(?!\S)")
"""A picture, drawn or of lines, is held by a clip of its size."""
_NEAR = 1.5
"""Points by which a picture may stand out of the strip of its link."""


def with_live_pictures(pdf: bytes) -> bytes:
    """The PDF with the rectangle of each link that stands around a picture as large as the picture."""
    end = trailer(pdf)
    if end is None:
        return pdf
    objects, changes = objects_in_streams(pdf), dict[int, bytes]()
    for page in (content for content in objects.values() if _PAGE.match(content)):
        contents, annotations = CONTENTS.search(page), ANNOTATIONS.search(page)
        if contents is None or annotations is None:
            continue
        drawn = list(_pictures(stream_of(pdf, int(contents[1]))))
        for number in map(int, NUMBER.findall(annotations[1])) if drawn else ():
            if (wider := _widened(objects.get(number, b""), drawn)) is not None:
                changes[number] = wider
    return with_objects(pdf, end, changes) if changes else pdf


def _pictures(content: bytes) -> Iterator[Box]:
    """Where a page draws pictures."""
    now, saved = (1.0, 0.0, 0.0, 1.0, 0.0, 0.0), []
    for save, restore, matrix, clip in _DRAWN.findall(_STRING.sub(b"", content)):
        if save:
            saved.append(now)
        elif restore:
            now = saved.pop() if saved else now
        elif matrix:
            a, b, c, d, e, f = map(float, matrix.split())
            p, q, r, s, t, u = now
            now = (a * p + b * r, a * q + b * s, c * p + d * r, c * q + d * s, e * p + f * r + t, e * q + f * s + u)
        else:
            x, y, width, height = map(float, clip.split())
            p, q, r, s, t, u = now
            across = [t + a * p + b * r for a in (x, x + width) for b in (y, y + height)]
            up = [u + a * q + b * s for a in (x, x + width) for b in (y, y + height)]
            yield min(across), min(up), max(across), max(up)


def _widened(link: bytes, drawn: list[Box]) -> bytes | None:
    """A link with the pictures that stand on its strip; None where none does."""
    match = _RECTANGLE.search(link)
    if match is None or b"/URI" not in link:
        return None
    left, bottom, right, top = map(float, match[1].split())
    within = [
        box
        for box in drawn
        if left - _NEAR <= box[0] and box[2] <= right + _NEAR and box[1] <= top + _NEAR and box[3] >= bottom - _NEAR
    ]
    low, high = min([bottom, *(box[1] for box in within)]), max([top, *(box[3] for box in within)])
    if (low, high) == (bottom, top):
        return None
    rectangle = b"/Rect [ %.3f %.3f %.3f %.3f ]" % (left, low, right, high)
    # a link of one rectangle needs no other form: readers take the rectangle (ISO 32000-2, table 176)
    return _QUADS.sub(b"", _RECTANGLE.sub(rectangle, link))
