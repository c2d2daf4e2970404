"""Messages to pages: cleaned HTML, PDF, and plain text."""

from wexagraph.pages.options import ATTACHMENTS, ENGINES, PAPERS, PageOptions

__all__ = ["ATTACHMENTS", "ENGINES", "PAPERS", "PageOptions"]
