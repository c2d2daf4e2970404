"""The second engine: WeasyPrint, an optional extra."""

from __future__ import annotations

import io
import logging
from typing import Any

import weasyprint

import wexagraph
from wexagraph.errors import PageError
from wexagraph.pages.compose import Page
from wexagraph.pages.options import PageOptions

logging.getLogger("weasyprint").setLevel(logging.CRITICAL)
logging.getLogger("fontTools").setLevel(logging.CRITICAL)


class WeasyPrint:
    """Adapter to WeasyPrint."""

    name = "weasyprint"

    def render(self, page: Page, options: PageOptions) -> bytes:
        """See `Engine.render`."""

        def fetch(url: str, *_: Any, **__: Any) -> dict[str, Any]:
            if url not in page.resources:
                raise ValueError("nothing is fetched")
            kind, content = page.resources[url]
            return {"file_obj": io.BytesIO(content), "mime_type": kind}

        try:
            document = weasyprint.HTML(string=page.html, url_fetcher=fetch).render(presentational_hints=True)
            if len(document.pages) > options.most_pages:
                raise PageError(f"the layout fills {len(document.pages)} pages; at most {options.most_pages} are made")
            meta = document.metadata
            meta.title, meta.authors = page.title, [page.author] if page.author else []
            meta.generator = f"Wexagraph {wexagraph.__version__}"
            meta.created = meta.modified = page.date.isoformat() if page.date else "1980-01-01T00:00:00+00:00"
            return bytes(document.write_pdf(pdf_identifier=b"wexagraph"))
        except PageError:
            raise
        except Exception as error:  # the engine's own errors have no common base
            raise PageError(f"{self.name}: {type(error).__name__}: {error}") from error
