"""Presentational attributes as CSS, and bounds on them (HTML standard, section 15: Rendering)."""

from __future__ import annotations

import re

from wexagraph.pages.css import MOST_PX

MOST_CELLS = 100
NUMBERS = {"width": MOST_PX, "height": MOST_PX, "colspan": MOST_CELLS, "rowspan": 1000, "span": MOST_CELLS,
            "cellpadding": 200, "cellspacing": 200, "border": 100, "hspace": 500, "vspace": 500}  # fmt: skip
_ALIGNED = frozenset({"left", "right", "center", "justify"})
_ALIGNING = frozenset("caption center col colgroup div h1 h2 h3 h4 h5 h6 p tbody td tfoot th thead tr".split())


def alignment(tag: str, attribute: str | None, inherited: str) -> tuple[str, str]:
    """What `align` means as CSS (HTML, section 15.3): declarations for this element, and what its children inherit.

    An aligning attribute moves blocks and tables inside the element too, which no CSS value says; so a table in a
    centred cell is given the margins. Like a browser in quirks mode, a table starts its own text anew.
    """
    value = (attribute or "").strip().lower()
    value = "center" if value in ("middle", "absmiddle") else value
    value = value if value in _ALIGNED else ""
    if tag == "center":
        value = "center"
    if tag == "table":
        style = "text-align:start"
        if value == "center" or (not value and inherited == "center"):
            style += ";margin-left:auto;margin-right:auto"
        elif value in ("left", "right"):
            style += f";float:{value}"
        elif inherited == "right":
            style += ";margin-left:auto"
        return style, ""
    if tag == "th" and not value:
        return f"text-align:{inherited or 'center'}", inherited or "center"
    if tag == "hr":
        return {"left": "margin-left:0", "right": "margin-right:0"}.get(value, ""), inherited
    if value and tag in _ALIGNING:
        return f"text-align:{value}", value
    return "", inherited


def image_style(attributes: dict[str, str | None]) -> str:
    """`align`, `hspace` and `vspace` of a picture as CSS (HTML, section 15.4.3)."""
    found = []
    align = (attributes.get("align") or "").lower()
    if align in ("left", "right"):
        found.append(f"float:{align}")
    elif align in ("top", "middle", "bottom"):
        found.append(f"vertical-align:{align}")
    for name, sides in (("hspace", ("left", "right")), ("vspace", ("top", "bottom"))):
        number = bounded_number(attributes.get(name) or "", NUMBERS[name])
        if number:
            found += [f"margin-{side}:{number.rstrip('%')}px" for side in sides]
    return ";".join(found)


def bounded_number(value: str, most: int) -> str:
    """A dimension or a number of an attribute, "" where it is none or larger than `most`."""
    match = re.match(r"\s*(\d{1,9})(?:\.\d+)?\s*(%?)", value)
    if not match:
        return ""
    number = int(match[1])
    if match[2]:
        return f"{min(number, 100)}%"
    return str(number) if number <= most else ""


def colour(value: str) -> str:
    """A legacy colour value: hexadecimal digits without their sign are a colour too (section 2.3.6)."""
    return "#" + value if re.fullmatch(r"[0-9A-Fa-f]{6}|[0-9A-Fa-f]{3}", value) else value
