"""The first engine: PlutoPrint."""

from __future__ import annotations

import io
from datetime import UTC

import plutoprint

import wexagraph
from wexagraph.errors import PageError
from wexagraph.pages.compose import Page
from wexagraph.pages.options import PageOptions

_POINTS = 72 / 25.4


class _Closed(plutoprint.ResourceFetcher):
    """Gives the page's own pictures, and nothing else from anywhere."""

    def __init__(self, resources: dict[str, tuple[str, bytes]]) -> None:
        super().__init__()
        self._resources = resources

    def fetch_url(self, url: str) -> plutoprint.ResourceData:
        kind, content = self._resources.get(url, ("text/plain", b""))
        return plutoprint.ResourceData(content, kind)


class PlutoPrint:
    """Adapter to PlutoPrint. A layout wider than the paper is made smaller by the engine, not cut."""

    name = "plutoprint"

    def render(self, page: Page, options: PageOptions) -> bytes:
        """See `Engine.render`."""
        width, height = options.page_size
        size = plutoprint.PageSize(width * _POINTS, height * _POINTS)
        book = plutoprint.Book(size, plutoprint.PAGE_MARGINS_NONE, plutoprint.MEDIA_TYPE_PRINT)
        book.custom_resource_fetcher = _Closed(page.resources)
        try:
            book.load_html(page.html)
            if book.get_page_count() > options.most_pages:
                raise PageError(
                    f"the layout fills {book.get_page_count()} pages; at most {options.most_pages} are made"
                )
            self._describe(book, page)
            out = io.BytesIO()
            book.write_to_pdf_stream(out)
        except (plutoprint.Error, ValueError, MemoryError) as error:
            raise PageError(f"{self.name}: {error}") from error
        return out.getvalue()

    def _describe(self, book: plutoprint.Book, page: Page) -> None:
        book.set_metadata(plutoprint.PDF_METADATA_TITLE, page.title)
        book.set_metadata(plutoprint.PDF_METADATA_AUTHOR, page.author)
        book.set_metadata(plutoprint.PDF_METADATA_CREATOR, f"Wexagraph {wexagraph.__version__}")
        moment = page.date.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ") if page.date else "1980-01-01T00:00:00Z"
        book.set_metadata(plutoprint.PDF_METADATA_CREATION_DATE, moment)
        book.set_metadata(plutoprint.PDF_METADATA_MODIFICATION_DATE, moment)
