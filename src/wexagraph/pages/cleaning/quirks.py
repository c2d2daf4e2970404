"""What is made right in a document before an engine lays it out: quirks of browsers (HTML, section 13.2.6.4.1; the
Quirks Mode standard), words too long for a line, links that lead nowhere, and layouts too deep for an engine."""

from __future__ import annotations

import re
from enum import Enum
from html import escape
from urllib.parse import urlsplit

from selectolax.lexbor import LexborHTMLParser, LexborNode

_LINKS = frozenset({"http", "https", "mailto", "tel", "ftp"})
_UNBROKEN = re.compile("[^\x00-\x20]*")
FILLING = " \t\r\n\xa0\u200b\u200c\u200d\u200e\u200f\u034f\ufeff\u00ad\u2007"  # what pads out preview lines
_CELLS = ("td", "th")
_BUTTON = 60
"""Letters of a table that holds no more than a button."""
# the longest word without a break: in texts of ours, and in a layout, where a browser would break it as late
MOST = 45
MOST_IN_LAYOUT = 89
# scripts that break between any two letters need no help
_LETTER = "[^\\s\u0e00-\u0eff\u1000-\u109f\u1100-\u11ff\u1780-\u17ff\u2e80-\uffef\U00020000-\U0003ffff]"
_ENDLESS = {most: re.compile(f"{_LETTER}{{{most + 1},}}") for most in (MOST, MOST_IN_LAYOUT)}
_BROWSERS = re.compile(r"(?<=-)(?=[^\W\d])|(?<=\?)(?=\w)")
_STEP = re.compile(r"[^/?&=.,;_-]{1,14}[/?&=.,;_-]*|[/?&=.,;_-]+")
_QUIRKY = re.compile(r"html 2\.0|html 3\.|html 4\.0 (?:transitional|frameset)|ietf//dtd html", re.IGNORECASE)
_OLD = re.compile(r"html 4\.01 (?:transitional|frameset)", re.IGNORECASE)
_LIMITED = re.compile(r"xhtml 1\.0 (?:transitional|frameset)", re.IGNORECASE)
_DOCTYPE = re.compile(r"\s*(?:<!--.*?-->\s*)*<!doctype\s+html\b([^>]*)>", re.IGNORECASE | re.DOTALL)
_SIZE = re.compile(r"\s*(\d{1,4})")
_HEIGHT = re.compile(r"(?:^|;)height:")
_WIDTH = re.compile(r"(?:^|;)width:")
_WITH_MARGINS = frozenset("blockquote dir dl h1 h2 h3 h4 h5 h6 listing menu ol p plaintext pre ul xmp".split())
_BODY_MARGINS = {
    "top": ("marginheight", "topmargin"),
    "right": ("marginwidth", "rightmargin"),
    "bottom": ("marginheight", "bottommargin"),
    "left": ("marginwidth", "leftmargin"),
}
_MOST_LEVELS = 30
_MOST_AREAS = 200
_COORDINATE = re.compile(r"\d{1,5}(?:\.\d+)?")
# what may make a line lower than the element around it would
_LOWER = "font[size], big, small, code, kbd, samp, tt, [style*='font'], img"
# the style sheet of the page gives these no height, and what stands in them its own
EMPTY_LINES = "wx-low"


def in_quirks_mode(html: str) -> bool:
    """Whether a browser lays this document out in quirks mode."""
    match = _DOCTYPE.match(html[:4000])
    if match is None or _QUIRKY.search(match[1]):
        return True
    return bool(_OLD.search(match[1])) and "http" not in match[1].lower()


def in_limited_quirks_mode(html: str) -> bool:
    """Whether a browser lays this document out in limited-quirks mode."""
    match = _DOCTYPE.match(html[:4000])
    return match is not None and not in_quirks_mode(html) and bool(_LIMITED.search(match[1]) or _OLD.search(match[1]))


def body_margins(attributes: dict[str, str | None]) -> str:
    """The margins that attributes of a body give it, as declarations (HTML, section 15.3.3, "the page")."""
    rules = []
    for side, names in _BODY_MARGINS.items():
        size = next((match[1] for name in names if (match := _SIZE.match(attributes.get(name) or ""))), None)
        rules += [f"margin-{side}:{min(int(size), 200)}px"] if size else []
    return ";".join(rules)


def without_height(tree: LexborHTMLParser, html: str, inline: frozenset[str]) -> frozenset[int]:
    """The elements (`mem_id`) that add nothing to the height of lines in which they have no text of their own.

    That is how both quirks modes count (Quirks Mode standard, "the line height calculation quirk"). Only elements are
    given of which it shows: those around smaller text or around pictures. `inline` are the names of inline elements.
    """
    if not (in_quirks_mode(html) or in_limited_quirks_mode(html)):
        return frozenset()
    # a line height of the author's is inherited by what stands inside: there only elements without any text count
    free = not any(word in html for word in ("line-height", "white-space", "inherit"))
    around: dict[int, bool] = {}
    for node in tree.css(_LOWER):
        if node.tag not in inline and node.tag != "img":
            continue  # a block has lines of its own
        parent = node.parent
        for _ in range(_MOST_LEVELS):
            if parent is None or parent.mem_id in around:
                break
            around[parent.mem_id] = parent.tag != "pre" and (free or not _has_text(parent))
            if parent.tag not in inline:
                break
            parent = parent.parent
    return frozenset(node for node, low in around.items() if low)


def makes_height(node: LexborNode, tag: str | None, inline: frozenset[str]) -> bool:
    """Whether a child makes a line as high as its parent's text: text does, and a break in a line that is empty."""
    if tag == "-text":
        return _has_text(node)
    if tag != "br":
        return False
    before = substantial(node.prev, "prev")
    while before is not None and before.tag in inline and not (_has_text(before) or before.css_first("img, br")):
        before = substantial(before.prev, "prev")
    return before is None or before.tag not in {"-text", "img", *inline}


def quirky_height(style: str, attribute: bool) -> bool:
    """Whether a cell has a height, which counts its padding in quirks mode, and no width that would count it too."""
    return (attribute or bool(_HEIGHT.search(style))) and not _WIDTH.search(style)


def without_margins(tree: LexborHTMLParser, html: str) -> dict[int, str]:
    """Declarations for the elements (`mem_id`) whose margin ends at the edge of the page or of a cell in quirks mode.

    HTML, section 15.3.10, "margin collapsing quirks", but for what it says of elements that hold nothing.
    """
    if not in_quirks_mode(html):
        return {}
    rules: dict[int, str] = {}
    for box in tree.css("body, td, th"):
        first = substantial(box.first_child, "next")
        if first is not None and first.tag in _WITH_MARGINS:
            rules[first.mem_id] = "margin-top:0"
        last = substantial(box.last_child, "prev") if box.tag != "body" else None
        if last is not None and last.tag == "p":
            rules[last.mem_id] = ";".join(filter(None, [rules.get(last.mem_id), "margin-bottom:0"]))
    return rules


def substantial(node: LexborNode | None, way: str) -> LexborNode | None:
    """The node itself or the next one that is more than white space or a comment."""
    while node is not None:
        tag = node.tag or "-"
        if tag[0] not in "-!_" or (tag == "-text" and _has_text(node)):
            return node
        node = getattr(node, way)
    return None


def _has_text(node: LexborNode) -> bool:
    return bool((node.text_content or "").strip(" \t\r\n\f"))


def escaped(text: str, most: int = MOST) -> str:
    """Text as HTML in which a word of more than `most` characters may break, after a mark where there is one.

    The engine's own `overflow-wrap` breaks words that would fit on the next line, where an element begins with them.
    """
    if "wx:" in text:  # never to be taken for the name of a picture
        return "wx&#58;".join(escaped(piece, most) for piece in text.split("wx:"))
    if len(text) <= most or not _ENDLESS[most].search(text):
        return escape(text, quote=False)
    out, at = [], 0
    for match in _ENDLESS[most].finditer(text):
        out.append(escape(text[at : match.start()], quote=False))
        out.append("<wbr>".join(escape(piece, quote=False) for piece in _pieces(match[0], most)))
        at = match.end()
    out.append(escape(text[at:], quote=False))
    return "".join(out)


def _pieces(word: str, most: int) -> list[str]:
    """A word in pieces: where a browser would break it, and after marks in what is too long all the same."""
    pieces: list[str] = []
    for piece in _BROWSERS.split(word) if most == MOST_IN_LAYOUT else [word]:
        pieces += _STEP.findall(piece) if len(piece) > most else [piece]
    return pieces


class Relief(Enum):
    """What a page is made without, where the engine would leave words out or a first page empty."""

    NONE = "as written"
    UNROLLED = "layout tables of one column as blocks, which break where a row does not"
    BACKED = "a colour in place of background pictures that are not there"
    UNHELD = "nothing cut off, placed, or of a given height"
    FLAT = "no style and no table of the author's"


def has_one_column(table: LexborNode) -> bool:
    """Whether a table is there for its frame alone: it has one filled cell a row, and holds more than a button does."""
    if len(table.text(deep=True)) < _BUTTON:
        return False
    for row in table.css("tr"):
        cells, cell = 0, row.first_child
        while cell is not None:
            cells += cell.tag in _CELLS and not is_spacer(cell)
            cell = cell.next
        if cells > 1 and _table_of(row) == table.mem_id:
            return False
    return True


def is_spacer(cell: LexborNode) -> bool:
    """Whether a cell is there for its width alone."""
    return cell.css_first("img, table") is None and not cell.text(deep=True).strip(FILLING)


def _table_of(row: LexborNode) -> int:
    above = row.parent
    while above is not None and above.tag != "table":
        above = above.parent
    return above.mem_id if above is not None else 0


def link_target(href: str) -> str:
    """A link's target where it is one that a reader may follow from a page; "" otherwise."""
    target = href if _UNBROKEN.fullmatch(href) else re.sub(r"[\x00-\x20]+", "", href)
    scheme, colon, _ = target.partition(":")
    return target[:4000] if colon and scheme.lower() in _LINKS else ""


def areas_of(tree: LexborHTMLParser) -> dict[str, list[str]]:
    """The areas of each image map, by its name: links at the place of their rectangles, or of what is around them."""
    maps: dict[str, list[str]] = {}
    for area in tree.css("map area[href]")[:_MOST_AREAS]:
        holder = area.parent
        while holder is not None and holder.tag != "map":
            holder = holder.parent
        link = link_target(area.attributes.get("href") or "")
        if holder is None or not link:
            continue
        shape = (area.attributes.get("shape") or "rect").lower()
        numbers = [float(each) for each in _COORDINATE.findall(area.attributes.get("coords") or "")]
        if shape.startswith("circ") and len(numbers) > 2:
            x, y, r = numbers[:3]
            numbers = [x - r, y - r, x + r, y + r]
        if shape == "default" or len(numbers) < 4:
            place = "left:0;top:0;width:100%;height:100%"
        else:
            (left, right), (top, bottom) = ((min(each), max(each)) for each in (numbers[::2], numbers[1::2]))
            place = f"left:{left:g}px;top:{top:g}px;width:{right - left:g}px;height:{bottom - top:g}px"
        name = holder.attributes.get("name") or holder.attributes.get("id") or ""
        maps.setdefault(name, []).append(f'<a href="{escape(link)}" style="{place}"></a>')
    return maps


_NAMED = re.compile(r"(?:[a-z]+://|mailto:)?(?:[^\s@/]+@)?((?:[a-z0-9-]+\.)+[a-z]{2,24})(?:[:/?#]\S*)?", re.IGNORECASE)
_FILE_NAMES = frozenset("pdf docx doc xlsx xls pptx txt csv zip jpg jpeg png gif html eml".split())


def named_host(text: str) -> str:
    """The host that a link's text names, if the text is an address or begins with one; "" otherwise."""
    match = _NAMED.match(text) if "." in text else None
    if not match or match[1].rpartition(".")[2].lower() in _FILE_NAMES:
        return ""
    rest = text[match.end() :]
    return match[1].lower().removeprefix("www.") if not rest or "://" in match[0] or not rest[0].isalnum() else ""


def target_host(link: str) -> str:
    """The host that a link leads to, or that the mail address in it belongs to; "" where there is none."""
    if link[:7].lower() == "mailto:":
        return link[7:].partition("?")[0].rpartition("@")[2].lower().removeprefix("www.")
    return host(link).lower().removeprefix("www.")


_HOST = re.compile(r"https?://([\w.-]+)(?=[/?#]|$)", re.ASCII)


def host(address: str) -> str:
    """The host of a web address; "" where there is none."""
    plain = _HOST.match(address)
    if plain:
        return plain[1].lower()[:80]
    try:
        return (urlsplit(address.strip()).hostname or "")[:80]
    except ValueError:
        return ""
