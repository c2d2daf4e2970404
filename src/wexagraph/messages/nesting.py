"""HTML whose elements nest without bound, which no parser is quick on: what nests too deeply is laid flat before."""

from __future__ import annotations

import re

_WORTH = 10_000
"""With fewer tags than this, no depth takes a parser a second."""
_MOST = 400
_TAG = re.compile(r"<(/?)([a-zA-Z][a-zA-Z0-9]*)[^<>]*>")
# void elements, and those whose end tag may be left out (HTML standard, section 13.1.2)
_FLAT = frozenset(
    "area base br col embed hr img input link meta source track wbr "
    "body colgroup dd dt head html li optgroup option p rp rt tbody td tfoot th thead tr".split()
)


def flattened(html: str) -> tuple[str, bool]:
    """HTML without the tags of elements that stand more than 400 deep, and whether there were any."""
    if html.count("<") < _WORTH:
        return html, False
    out: list[str] = []
    at = depth = 0
    for tag in _TAG.finditer(html):
        if tag[2].lower() in _FLAT:
            continue
        deep = depth + (not tag[1]) > _MOST
        depth = max(0, depth - 1) if tag[1] else depth + 1
        if deep:
            out.append(html[at : tag.start()])
            at = tag.end()
    return ("".join([*out, html[at:]]), True) if out else (html, False)
