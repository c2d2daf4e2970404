"""How browsers lay out documents without a modern doctype (HTML, section 13.2.6.4.1; the Quirks Mode standard)."""

from __future__ import annotations

import re

from selectolax.lexbor import LexborHTMLParser, LexborNode

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
    before = _substantial(node.prev, "prev")
    while before is not None and before.tag in inline and not (_has_text(before) or before.css_first("img, br")):
        before = _substantial(before.prev, "prev")
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
        first = _substantial(box.first_child, "next")
        if first is not None and first.tag in _WITH_MARGINS:
            rules[first.mem_id] = "margin-top:0"
        last = _substantial(box.last_child, "prev") if box.tag != "body" else None
        if last is not None and last.tag == "p":
            rules[last.mem_id] = ";".join(filter(None, [rules.get(last.mem_id), "margin-bottom:0"]))
    return rules


def _substantial(node: LexborNode | None, way: str) -> LexborNode | None:
    """The node itself or the next one that is more than white space or a comment."""
    while node is not None:
        tag = node.tag or "-"
        if tag[0] not in "-!_" or (tag == "-text" and _has_text(node)):
            return node
        node = getattr(node, way)
    return None


def _has_text(node: LexborNode) -> bool:
    return bool((node.text_content or "").strip(" \t\r\n\f"))
