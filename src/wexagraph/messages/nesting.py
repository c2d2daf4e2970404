"""HTML whose elements nest without bound, which no parser is quick on: what nests too deeply is laid flat before."""

from __future__ import annotations

import re

_WORTH = 10_000
"""With fewer tags than this, no depth takes a parser a second."""
_MOST = 400
_LONG_TAG, _MOST_ATTRIBUTES = 10_000, 1000
_NAME = re.compile(r"[a-zA-Z][a-zA-Z0-9]{0,30}")
_TAG = re.compile(r"<(/?)([a-zA-Z][a-zA-Z0-9]*)[^<>]*>")
# void elements, and those whose end tag may be left out (HTML standard, section 13.1.2)
_FLAT = frozenset(
    "area base br col embed hr img input link meta source track wbr "
    "body colgroup dd dt head html li optgroup option p rp rt tbody td tfoot th thead tr".split()
)


def without_endless_tags(html: str) -> str:
    """HTML in which a tag of more than a thousand attributes has none: parsers compare each with each."""
    if len(html) < _LONG_TAG:
        return html
    out = []
    for piece in html.split("<"):
        if len(piece) > _LONG_TAG and piece.count("=") > _MOST_ATTRIBUTES:
            name = _NAME.match(piece)
            tag, bracket, rest = piece.partition(">")
            if name and bracket and tag.count("=") > _MOST_ATTRIBUTES:
                piece = f"{name[0]}>{rest}"
        out.append(piece)
    return "<".join(out)


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
