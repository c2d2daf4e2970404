"""Pictures that go round the engine.

The engine packs each picture anew, all but JPEG, which takes much of the time of a page with a screenshot on it. So it
gets a grey JPEG of the same size for each larger picture, and hands that through as it is; in the PDF the picture comes
in its place.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from functools import lru_cache
from hashlib import sha256

from wexagraph.pages.engines.images import PdfImage, pdf_image
from wexagraph.pages.file_structure import Change, changed, trailer

_PACKED = ("image/png", "image/bmp", "image/webp")
_MARK = b"-" * 64
_HEAD = re.compile(rb"(\d+) 0 obj\s*<<([^<>]*)>>\s*stream\r?\n\Z")
_END = b"endobj"


class StandInLost(Exception):
    """A grey picture can't be found in the PDF: the page is to be set with the pictures themselves."""


class StandIns:
    """`resources` are grey pictures, under the names that some of a page's resources have."""

    def __init__(self, resources: dict[str, tuple[str, bytes]]) -> None:
        self.resources: dict[str, tuple[str, bytes]] = {}
        self._pictures: dict[bytes, PdfImage] = {}
        for name, (kind, content) in resources.items():
            picture = pdf_image(content) if kind in _PACKED else None
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
                if picture.alpha is not None:
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
