"""The first engine: PlutoPrint. Pictures go around it: a stand-in of each is exchanged in its PDF."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from dataclasses import replace
from functools import lru_cache
from hashlib import sha256

import plutoprint

from wexagraph.errors import PageError
from wexagraph.pages.composing.compose import Page
from wexagraph.pages.engines.fit import shrink
from wexagraph.pages.engines.images import PdfImage, pdf_image
from wexagraph.pages.engines.links import with_live_pictures
from wexagraph.pages.file_structure import Change, changed, trailer, with_distinct_names
from wexagraph.pages.options import PageOptions
from wexagraph.pages.tagging.tag import with_tags

_PACKED = ("image/png", "image/bmp", "image/webp")
_MARK = b"-" * 64
_HEAD = re.compile(rb"(\d+) 0 obj\s*<<([^<>]*)>>\s*stream\r?\n\Z")
_END = b"endobj"
_LEAST_OVERFLOW, _MOST_OVERFLOW, _MOST_WITH_TABLES = 1.0125, 3.0, 12.0
"""Times the width of the paper: a space that hangs at the end of a line counts for the engine; a text that is wider
than the most may as well be broken into lines, but no table."""
_HEIGHT = 2250
"""Points: of the sheet on which a layout's width is taken."""


class _Closed(plutoprint.ResourceFetcher):
    """Gives the page's own pictures, and nothing else from anywhere."""

    def __init__(self, resources: dict[str, tuple[str, bytes]]) -> None:
        super().__init__()
        self._resources = resources

    def fetch_url(self, url: str) -> plutoprint.ResourceData:
        kind, content = self._resources.get(url, ("text/plain", b""))
        return plutoprint.ResourceData(content, kind)


class PlutoPrint:
    """Adapter to PlutoPrint.

    It makes a layout that is wider than the paper smaller, our heading with it: such a page is set on larger paper
    instead, with what is ours as much larger, and brought to size then.
    """

    name = "plutoprint"

    def render(self, page: Page, options: PageOptions) -> bytes:
        """See `Engine.render`."""
        try:
            try:
                return self._set(page, options, StandIns(page.resources))
            except StandInLost:
                return self._set(page, options, StandIns({}))
        except (plutoprint.Error, ValueError, MemoryError) as error:
            raise PageError(f"{self.name}: {error}") from error

    def _set(self, page: Page, options: PageOptions, stand_ins: StandIns) -> bytes:
        shown = replace(page, resources=page.resources | stand_ins.resources)
        book = self._book(shown, options)
        factor = book.get_document_width() / options.content_width
        if not _LEAST_OVERFLOW < factor <= (_MOST_WITH_TABLES if shown.has_tables else _MOST_OVERFLOW):
            return stand_ins.put_back(self._written(book, shown, options))
        width, height = options.page_size
        larger = shown.on_paper(
            f"size: {width * factor:g}mm {height * factor:g}mm; margin: {options.margins_css(factor)}", factor
        )
        pdf = self._written(self._book(larger, options), larger, options)
        return shrink(stand_ins.put_back(pdf), 1 / factor)

    def _book(self, page: Page, options: PageOptions) -> plutoprint.Book:
        """The page laid out in the width that a message has on paper; the paper itself is that of its `@page` rule."""
        sheet = plutoprint.PageSize(options.content_width * 0.75, _HEIGHT)
        book = plutoprint.Book(sheet, plutoprint.PAGE_MARGINS_NONE, plutoprint.MEDIA_TYPE_PRINT)
        book.custom_resource_fetcher = _Closed(page.resources)
        book.load_html(page.html)
        return book

    def _written(self, book: plutoprint.Book, page: Page, options: PageOptions) -> bytes:
        if book.get_page_count() > options.most_pages:
            raise PageError(f"the layout fills {book.get_page_count()} pages; at most {options.most_pages} are made")
        # the engine would write the time of making; `properties` writes the rest
        moment = f"{page.record.instant:%Y-%m-%dT%H:%M:%SZ}"
        book.set_metadata(plutoprint.PDF_METADATA_CREATION_DATE, moment)
        book.set_metadata(plutoprint.PDF_METADATA_MODIFICATION_DATE, moment)
        out = io.BytesIO()
        book.write_to_pdf_stream(out)
        pdf = with_distinct_names(out.getvalue())
        if "<a " in page.html and "<img" in page.html:
            pdf = with_live_pictures(pdf)
        return with_tags(pdf, page, options)


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
