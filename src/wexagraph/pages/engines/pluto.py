"""The first engine: PlutoPrint."""

from __future__ import annotations

import io
from dataclasses import replace

import plutoprint

from wexagraph.errors import PageError
from wexagraph.pages.composing.compose import Page
from wexagraph.pages.engines.fit import shrink
from wexagraph.pages.engines.stand_ins import StandInLost, StandIns
from wexagraph.pages.file_structure import with_distinct_names
from wexagraph.pages.options import PageOptions

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
        return with_distinct_names(out.getvalue())
