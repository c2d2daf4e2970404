"""What a page is made with: frozen, picklable, made once at the edge."""

from __future__ import annotations

import re
from dataclasses import dataclass
from zoneinfo import ZoneInfo

PAPERS = {  # millimetres: ISO 216, ANSI
    "a3": (297.0, 420.0),
    "a4": (210.0, 297.0),
    "a5": (148.0, 210.0),
    "letter": (215.9, 279.4),
    "legal": (215.9, 355.6),
}
MOST_MM = 5080.0  # ISO 32000-1, annex C: a page is at most 14,400 units of a point
FORMATS = ("pdf", "html", "text")
ENGINES = ("auto", "plutoprint", "weasyprint")
ATTACHMENTS = ("embed", "pages", "beside", "zip", "none")


def paper_size(paper: str) -> tuple[float, float]:
    """Width and height in millimetres of a paper: a name of `PAPERS`, or "100x150". Raises ValueError."""
    if paper in PAPERS:
        return PAPERS[paper]
    match = re.fullmatch(r"(\d{2,4}(?:\.\d+)?)x(\d{2,4}(?:\.\d+)?)", paper)
    if not match or not 50 <= min(map(float, match.groups())) <= max(map(float, match.groups())) <= MOST_MM:
        raise ValueError(paper)
    return float(match[1]), float(match[2])


@dataclass(frozen=True)
class PageOptions:
    """How messages become pages.

    `zone` is an IANA name for the dates on the page, or "sender" for each message's own offset. Lengths are in
    millimetres. `most_pages` bounds a single message. `show_hidden` prints what a sender hid; `read_back` reads each
    PDF again and compares its words. `attachments` are embedded, made into pages behind the message, put beside it,
    zipped
    beside it, or only listed; `open_zips` makes pages of what is in ZIPs
    too. `archival` makes PDF/A-3b with the original message inside.
    """

    zone: str = "UTC"
    paper: str = "a4"
    landscape: bool = False
    margin: float = 18.0
    attachments: tuple[str, ...] = ("embed",)
    open_zips: bool = False
    archival: bool = False
    most_pages: int = 2000
    show_hidden: bool = False
    read_back: bool = True

    @property
    def page_size(self) -> tuple[float, float]:
        """Width and height in millimetres."""
        width, height = paper_size(self.paper)
        return (height, width) if self.landscape else (width, height)

    @property
    def content_width(self) -> int:
        """Width of the content in CSS pixels."""
        return round((self.page_size[0] - 2 * self.margin) / 25.4 * 96)

    def timezone(self) -> ZoneInfo | None:
        """The zone to show dates in; None for each message's own."""
        return None if self.zone == "sender" else ZoneInfo(self.zone)
