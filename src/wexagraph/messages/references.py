"""Pictures that the HTML of a message names: `cid:` (RFC 2392) and Content-Location (RFC 2557)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from html import unescape
from urllib.parse import unquote

from selectolax.lexbor import LexborHTMLParser, LexborNode

_URL = re.compile(r"""(?i)url\(\s*["']?([^"')]{1,2000})""")
_GONE = re.compile(r"(?i)display\s*:\s*none|visibility\s*:\s*hidden|mso-hide\s*:\s*all")


def picture_references(html: str) -> set[str]:
    """What the pictures, backgrounds and styles of a text refer to, but for those that its author hid."""
    tree = LexborHTMLParser(html)
    references = {url for sheet in tree.css("style") for url in _URL.findall(sheet.text())}
    for node in tree.css("img[src], [background], [style*='url(' i]"):
        if not _is_hidden(node):
            references.update(_of(node))
    return {normal(reference) for reference in references}


def may_refer(html: str, names: Iterable[str]) -> bool:
    """Whether a text may refer to one of these names, told at a glance: to a Content-ID only where it writes "cid:"."""
    if any(not name.startswith("cid:") for name in names):
        return True
    html = html.lower()
    return "cid:" in (unescape(html) if "&#" in html or "&colon" in html else html)


def _of(node: LexborNode) -> Iterator[str]:
    attributes = node.attributes
    if node.tag == "img":
        yield attributes.get("src") or ""
    yield attributes.get("background") or ""
    yield from _URL.findall(attributes.get("style") or "")


def _is_hidden(node: LexborNode) -> bool:
    above: LexborNode | None = node
    while above is not None:
        if above.tag and above.tag[0] not in "-!_" and _GONE.search(above.attributes.get("style") or ""):
            return True
        above = above.parent
    return False


def normal(reference: str) -> str:
    """A reference as parts are looked up by it: of `cid:`, the scheme in lower case and the ID unquoted and bare."""
    reference = reference.strip()
    scheme, colon, rest = reference.partition(":")
    return f"cid:{unquote(rest).strip('<> ')}" if colon and scheme.lower() == "cid" else reference
