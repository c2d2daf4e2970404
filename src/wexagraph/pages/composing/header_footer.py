"""Running headers and footers: patterns to the margin boxes of a page (CSS Paged Media 3, section 5)."""

from __future__ import annotations

from dataclasses import dataclass

from wexagraph.naming.patterns import Fields
from wexagraph.pages.options import FOOTER, PageOptions, line_parts
from wexagraph.text import shortened

_PAGE, _PAGES = "\ufdd0", "\ufdd1"  # noncharacters, which no text has a use for
_MOST, _MOST_WORD = 120, 32
_PLACES = ("left", "center", "right")


@dataclass(frozen=True)
class Box:
    """A margin box: its name, its content as CSS, where its text stands, and its share of the width in percent."""

    name: str
    content: str
    place: str
    width: int


@dataclass(frozen=True)
class HeaderFooter:
    """What runs along the pages of a message, page numbers left open."""

    header: tuple[str, ...]
    footer: tuple[str, ...]

    def boxes(self) -> list[Box]:
        """The margin boxes of all lines; the page numbers are counters of the page's own."""
        return _boxes(self.header, "top") + _boxes(self.footer, "bottom")

    def lines(self, page: int, pages: int) -> list[list[tuple[str, str, int, int]]]:
        """Header and footer of one page: (place, text, share of the width, share before it) of what stands in them."""
        return [
            [
                (place, text.replace(_PAGE, str(page)).replace(_PAGES, str(pages)), width, sum(widths[:at]))
                for at, (place, text, width) in enumerate(zip(_PLACES, line, widths, strict=False))
                if text
            ]
            for line, widths in ((line, _widths(line)) for line in (self.header, self.footer))
        ]


def header_footer(options: PageOptions, fields: Fields, file: str) -> HeaderFooter:
    """The header and footer of a message; `file` is the name of the file that it becomes."""
    more = {"page": _PAGE, "pages": _PAGES, "file": file}
    header, footer = (
        tuple(_told(part.fill(fields, more)) for part in line_parts(line))
        for line in (options.header, options.tr(options.footer) if options.footer == FOOTER else options.footer)
    )
    return HeaderFooter(header, footer)


def _told(text: str) -> str:
    """Text that fits its box: a word that never ends would run under the page number."""
    return shortened(" ".join(shortened(word, _MOST_WORD) for word in text.split(" ")), _MOST)


def css_string(text: str) -> str:
    """Text as the inside of a CSS string (CSS Syntax 3, section 4.3.5), harmless in a style element too."""
    return "".join(c if c.isalnum() or c == " " else f"\\{ord(c):06x} " for c in text)


def _boxes(parts: tuple[str, ...], edge: str) -> list[Box]:
    return [
        Box(f"{edge}-{place}", _content(part), place, width)
        for place, part, width in zip(_PLACES, parts, _widths(parts), strict=False)
        if part
    ]


def _content(text: str) -> str:
    quoted = css_string(text.replace(_PAGE, "\0").replace(_PAGES, "\1"))
    for sign, counter in (("\\000000 ", "page"), ("\\000001 ", "pages")):
        quoted = quoted.replace(sign, f'" counter({counter}) "')
    return f'"{quoted}"'


def _widths(parts: tuple[str, ...]) -> list[int]:
    """Shares of the width: a centred part stands in the middle, whatever stands beside it."""
    filled = [part for part in parts if part]
    if len(filled) < 2:
        return [100 if part else 0 for part in parts]
    if len(parts) == 3 and parts[1]:
        return [33, 34, 33]
    left, right = len(parts[0]) + 8, len(parts[-1]) + 8
    share = max(22, min(78, round(100 * left / (left + right))))
    return [share, 0, 100 - share]
