"""The second engine: WeasyPrint, an optional extra."""

from __future__ import annotations

import logging

import weasyprint
from weasyprint.urls import URLFetcher, URLFetcherResponse

from wexagraph.errors import PageError
from wexagraph.pages.composing.compose import Page
from wexagraph.pages.engines.fit import shrink
from wexagraph.pages.file_structure import relaid
from wexagraph.pages.options import PageOptions
from wexagraph.pages.tagging.tag import with_tags

logging.getLogger("weasyprint").setLevel(logging.CRITICAL)
logging.getLogger("fontTools").setLevel(logging.CRITICAL)


class _Closed(URLFetcher):
    """Gives the page's own pictures, and nothing else from anywhere."""

    def __init__(self, resources: dict[str, tuple[str, bytes]]) -> None:
        super().__init__(allowed_protocols=())
        self._resources = resources

    def fetch(self, url: str, headers: dict[str, str] | None = None) -> URLFetcherResponse:
        if url not in self._resources:
            raise ValueError("nothing is fetched")
        kind, content = self._resources[url]
        return URLFetcherResponse(url, content, {"Content-Type": kind})


class WeasyPrint:
    """Adapter to WeasyPrint."""

    name = "weasyprint"

    def render(self, page: Page, options: PageOptions) -> bytes:
        """See `Engine.render`."""
        fetcher = _Closed(page.resources)
        try:
            if options.scale != 1:  # laid out on larger or smaller paper, which is then brought to size
                width, height = options.page_size
                margins = options.margins_css(1 / options.scale)
                paper = f"size: {width / options.scale:g}mm {height / options.scale:g}mm; margin: {margins}"
                page = page.on_paper(paper, 1.0)
            document = weasyprint.HTML(string=page.html, url_fetcher=fetcher).render()
            if len(document.pages) > options.most_pages:
                raise PageError(f"the layout fills {len(document.pages)} pages; at most {options.most_pages} are made")
            document.metadata.created = document.metadata.modified = page.record.instant.isoformat()
            pdf = with_tags(relaid(bytes(document.write_pdf(pdf_identifier=b"wexagraph"))), page, options)
            return pdf if options.scale == 1 else shrink(pdf, options.scale)
        except PageError:
            raise
        except Exception as error:  # the engine's own errors have no common base
            raise PageError(f"{self.name}: {type(error).__name__}: {error}") from error
