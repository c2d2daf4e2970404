"""What a page is made with: frozen, picklable, made once at the edge."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from functools import lru_cache
from math import ceil
from typing import NamedTuple
from zoneinfo import ZoneInfo

from wexagraph.errors import CallError
from wexagraph.languages import ENGLISH, Language, language
from wexagraph.messages.blocks import Attachment
from wexagraph.naming.office_names import NO_NAMES, OfficeNames
from wexagraph.naming.patterns import Fields, TextPattern
from wexagraph.selection.criteria import text_matches

PAPERS = {  # millimetres: ISO 216, ANSI
    "a3": (297.0, 420.0),
    "a4": (210.0, 297.0),
    "a5": (148.0, 210.0),
    "letter": (215.9, 279.4),
    "legal": (215.9, 355.6),
}
MOST_MM = 5080.0  # ISO 32000-1, annex C: a page is at most 14,400 units of a point
ENGINES = ("auto", "plutoprint", "weasyprint")
ALLOWED = ("print", "copy", "comment", "assemble")
ATTACHMENTS = ("embed", "pages", "beside", "zip", "none")

FOOTER = "{subject} | Page {page} of {pages}"
LINE_FIELDS = ("page", "pages", "file")
PROPERTY_NAMES = ("title", "author", "subject", "keywords")
PROPERTIES = (
    ("title", TextPattern("{subject}")),
    ("author", TextPattern("{sender}")),
    ("subject", TextPattern("{subject}")),
    ("keywords", TextPattern("{tags}", more=("tags",))),
)


class Margins(NamedTuple):
    """The white around what is on a page, in millimetres."""

    top: float = 18.0
    right: float = 18.0
    bottom: float = 18.0
    left: float = 18.0

    def css(self, factor: float = 1.0) -> str:
        """The margins of a page for CSS Paged Media; the footer has 4 mm more below the text."""
        lengths = (self.top, self.right, self.bottom + 4, self.left)
        return " ".join(f"{length * factor:g}mm" for length in lengths)


ALL_AROUND = Margins()


@dataclass(frozen=True)
class Cover:
    """A cover sheet: a Jinja2 template of HTML, and the pictures beside it by the names it uses (media type, bytes)."""

    template: str
    name: str = "cover"
    resources: tuple[tuple[str, tuple[str, bytes]], ...] = ()


@dataclass(frozen=True)
class Lock:
    """The passwords of a locked PDF (ISO 32000-2, section 7.6): to open it, and to change what is allowed in it.

    `allow` names what may be done with it by who has only the first: print, copy, comment, assemble. Shows no
    password when it is printed.
    """

    user: str = field(default="", repr=False)
    owner: str = field(default="", repr=False)
    allow: tuple[str, ...] = ALLOWED

    def recipe(self) -> str:
        """What the journal may know of it: never a password, nor anything that one could be guessed from."""
        return f"{bool(self.user)}|{bool(self.owner)}|{'|'.join(self.allow)}"


@lru_cache(maxsize=64)
def line_parts(line: str, what: str = "header or footer") -> tuple[TextPattern, ...]:
    """The parts of a header or footer: left, centre and right, as many as stand between the bars in it.

    "{subject}" stands left; "{subject} | {page}" left and right. Raises CallError.
    """
    parts = [part.strip() for part in line.split("|")]
    if len(parts) > 3:
        raise CallError(f"the {what} {line!r} has {len(parts)} parts; there is room for left, centre and right.")
    if len(parts) == 2:
        parts.insert(1, "")
    return tuple(TextPattern(part, what, LINE_FIELDS) for part in parts)


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
    millimetres. `scale` makes everything on the page larger or smaller; without `background` no colour or picture lies
    behind anything. `header` and `footer` are patterns for header and footer (see `pages/composing/header_footer.py`).
    Texts without a layout are set in `text_font` at `text_size` points. `most_pages` bounds a single message.

    `show_hidden` prints what a sender hid; `read_back` reads each PDF again and compares its words. `attachments` are
    embedded, made into pages behind the message, put beside it, zipped beside it, or only listed; `narrowed` has the
    names or media types that a way is for, where it is not for all; `open_zips` makes pages of what is in ZIPs too.
    `evidence` adds a block that says where the message was read and what its digest is; `headers` a page of all header
    fields. `cover` is put in front. `properties` are patterns for the document's title, author, subject and keywords.
    `archival` makes PDF/A-3a with the original message inside. `language` is that of labels and dates.
    `case` is the reference and the title of what is filed, for patterns; `names` are the office's own for addresses, in
    names of files and on cover sheets. `title` is a pattern of what each document is
    called, where that is not its subject. `ocr` are the languages in which words of scans are recognised on pages of
    attachments (ISO 639-2); none means that none are.
    """

    zone: str = "UTC"
    paper: str = "a4"
    landscape: bool = False
    margin: Margins = ALL_AROUND
    scale: float = 1.0
    background: bool = True
    header: str = ""
    footer: str = FOOTER
    text_font: str = ""
    text_size: float = 9.4
    attachments: tuple[str, ...] = ("embed",)
    narrowed: tuple[tuple[str, tuple[str, ...]], ...] = ()
    open_zips: bool = False
    archival: bool = False
    evidence: bool = False
    headers: bool = False
    cover: Cover | None = None
    properties: tuple[tuple[str, TextPattern], ...] = PROPERTIES
    most_pages: int = 2000
    show_hidden: bool = False
    read_back: bool = True
    language: str = ENGLISH
    case: tuple[str, str] = ("", "")
    title: TextPattern | None = None
    ocr: tuple[str, ...] = ()
    names: OfficeNames = NO_NAMES

    def __post_init__(self) -> None:
        if self.text_font and not re.fullmatch(r"[\w][\w .-]{0,80}", self.text_font):
            raise CallError(
                f"{self.text_font!r} can't be the name of a font: letters, digits, spaces, points and hyphens."
            )
        for line, what in ((self.header, "header"), (self.footer, "footer")):
            line_parts(line, what)

    def called(self, fields: Fields) -> Fields:
        """The fields of a message whose document has a title: with that in place of the subject."""
        return replace(fields, subject=self.title.fill(fields)) if self.title is not None else fields

    @property
    def page_size(self) -> tuple[float, float]:
        """Width and height in millimetres."""
        width, height = paper_size(self.paper)
        return (height, width) if self.landscape else (width, height)

    @property
    def content_width(self) -> int:
        """Width of a message's content in CSS pixels.

        A browser that prints rounds its sheet up to whole points, and those to whole pixels: with the same width, lines
        end where it ends them.
        """
        return ceil(round(ceil(self._exact_width * 0.75 * self.scale) / self.scale / 0.75, 6))

    def margins_css(self, factor: float = 1.0) -> str:
        """The margins for CSS Paged Media: a message's content reaches half a millimetre into the right one at most."""
        beyond = (self.content_width - self._exact_width) * self.scale / 96 * 25.4
        return self.margin._replace(right=round(self.margin.right - beyond, 4)).css(factor)

    @property
    def _exact_width(self) -> float:
        return (self.page_size[0] - self.margin.left - self.margin.right) / self.scale / 25.4 * 96

    def taken(self, way: str, attachments: list[Attachment]) -> list[Attachment]:
        """Those attachments of a message that go a way: `embed`, `pages`, `beside` or `zip`."""
        values = dict(self.narrowed).get(way)
        if way not in self.attachments or values is None:
            return attachments if way in self.attachments else []
        return [each for each in attachments if any(text_matches(value, each.name, each.type) for value in values)]

    @property
    def tr(self) -> Language:
        """What gives labels and dates in the language of the pages."""
        return language(self.language)

    def timezone(self) -> ZoneInfo | None:
        """The zone to show dates in; None for each message's own."""
        return None if self.zone == "sender" else ZoneInfo(self.zone)
