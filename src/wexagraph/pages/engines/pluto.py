"""The first engine: PlutoPrint."""

from __future__ import annotations

import io
import re
import zlib
from itertools import islice

import plutoprint

from wexagraph.errors import PageError
from wexagraph.pages.composing.compose import Page
from wexagraph.pages.engines.fit import shrink
from wexagraph.pages.options import PageOptions

MOST_SHRINKING = 3.0
# how the heading of a page begins, where the engine made nothing smaller: 16 points (`h1` in page.css)
_HEADING = re.compile(rb"\n(?:16|15\.9999\d*|16\.0000\d*) 0 0 -1")
_STREAM = re.compile(rb"stream\r?\n")
_MOST_STREAMS = 6


def _in_full_size(pdf: bytes) -> bool:
    """Whether the engine set our heading in its own size, told from the first streams of its file; False in doubt."""
    for begin in islice(_STREAM.finditer(pdf), _MOST_STREAMS):
        try:
            content = zlib.decompressobj().decompress(pdf[begin.end() : begin.end() + 100_000])
        except zlib.error:
            continue
        if _HEADING.search(content):
            return True
    return False


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

    It makes a layout that is wider than the paper smaller, our heading with it: such a page is set again on larger
    paper, with what is ours as much larger.
    """

    name = "plutoprint"

    def render(self, page: Page, options: PageOptions) -> bytes:
        """See `Engine.render`."""
        try:
            pdf = self._set(page, options)
            factor = 1.0 if _in_full_size(pdf) else self._overflow(page, options)
            # one much wider is left as it is: nobody reads a heading over such a table
            if not 1.0 < factor <= MOST_SHRINKING:
                return pdf
            width, height = options.page_size
            larger = page.on_paper(
                f"size: {width * factor:g}mm {height * factor:g}mm; margin: {options.margins_css(factor)}", factor
            )
            return shrink(self._set(larger, options), 1 / factor)
        except (plutoprint.Error, ValueError, MemoryError) as error:
            raise PageError(f"{self.name}: {error}") from error

    def _overflow(self, page: Page, options: PageOptions) -> float:
        """How many times as wide as the paper allows the layout is; 1 where it fits."""
        allowed = options.content_width
        if not page.may_overflow(allowed):
            return 1.0
        probe = page.on_paper(f"size: {allowed}px 3000px; margin: 0", 1.0)
        wide = self._book(probe, plutoprint.PageSize(allowed * 0.75, 2250)).get_document_width() / allowed
        return wide if wide > 1.004 else 1.0

    def _book(self, page: Page, paper: plutoprint.PageSize = plutoprint.PAGE_SIZE_A4) -> plutoprint.Book:
        book = plutoprint.Book(paper, plutoprint.PAGE_MARGINS_NONE, plutoprint.MEDIA_TYPE_PRINT)
        book.custom_resource_fetcher = _Closed(page.resources)
        book.load_html(page.html)
        return book

    def _set(self, page: Page, options: PageOptions) -> bytes:
        book = self._book(page)
        if book.get_page_count() > options.most_pages:
            raise PageError(f"the layout fills {book.get_page_count()} pages; at most {options.most_pages} are made")
        # the engine would write the time of making; `properties` writes the rest
        moment = f"{page.record.instant:%Y-%m-%dT%H:%M:%SZ}"
        book.set_metadata(plutoprint.PDF_METADATA_CREATION_DATE, moment)
        book.set_metadata(plutoprint.PDF_METADATA_MODIFICATION_DATE, moment)
        out = io.BytesIO()
        book.write_to_pdf_stream(out)
        return out.getvalue()
