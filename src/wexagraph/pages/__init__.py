"""Messages to pages: cleaned HTML, PDF, and plain text."""

from wexagraph.pages.options import ATTACHMENTS, ENGINES, FORMATS, PAPERS, PageOptions

__all__ = ["ATTACHMENTS", "ENGINES", "FORMATS", "PAPERS", "PageOptions"]
