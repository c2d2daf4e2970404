"""What a page is made with: frozen, picklable, made once at the edge."""

from __future__ import annotations

from dataclasses import dataclass
from zoneinfo import ZoneInfo

PAPERS = {  # millimetres: ISO 216, ANSI
    "a3": (297.0, 420.0),
    "a4": (210.0, 297.0),
    "a5": (148.0, 210.0),
    "letter": (215.9, 279.4),
    "legal": (215.9, 355.6),
}
FORMATS = ("pdf", "html", "text")
ENGINES = ("auto", "plutoprint", "weasyprint")
ATTACHMENTS = ("embed", "none")


@dataclass(frozen=True)
class PageOptions:
    """How messages become pages.

    `zone` is an IANA name for the dates on the page, or "sender" for each message's own offset. Lengths are in
    millimetres. `most_pages` bounds a single message.
    """

    zone: str = "UTC"
    paper: str = "a4"
    landscape: bool = False
    margin: float = 18.0
    attachments: str = "embed"
    most_pages: int = 2000

    @property
    def page_size(self) -> tuple[float, float]:
        """Width and height in millimetres."""
        width, height = PAPERS[self.paper]
        return (height, width) if self.landscape else (width, height)

    @property
    def content_width(self) -> int:
        """Width of the content in CSS pixels."""
        return round((self.page_size[0] - 2 * self.margin) / 25.4 * 96)

    def timezone(self) -> ZoneInfo | None:
        """The zone to show dates in; None for each message's own."""
        return None if self.zone == "sender" else ZoneInfo(self.zone)
