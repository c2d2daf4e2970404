"""Presentational attributes as CSS, and bounds on them (HTML standard, section 15: Rendering).

A browser takes them as rules weaker than any of the author's. So they are no inline style here: each set of
declarations becomes a class, in a sheet before the author's own and less specific than any of its rules.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

from wexagraph.pages.cleaning.css import MOST_PX
from wexagraph.pages.cleaning.faces import with_known_fonts

MOST_CELLS = 100
KEPT_NUMBERS = {"colspan": MOST_CELLS, "rowspan": 1000, "span": MOST_CELLS, "start": 10_000_000, "value": 10_000_000}
_ALIGNED = frozenset({"left", "right", "center", "justify"})
_ALIGNING = frozenset("caption center col colgroup div h1 h2 h3 h4 h5 h6 p tbody td tfoot th thead tr".split())
_MOVED = frozenset("center div h1 h2 h3 h4 h5 h6 p".split())
_BOXES = frozenset("table thead tbody tfoot tr td th col colgroup".split())
_VERTICAL = {"top": "top", "middle": "middle", "center": "middle", "bottom": "bottom", "baseline": "baseline"}
_SIZES = ("0.625rem", "0.625rem", "0.8125rem", "1rem", "1.125rem", "1.5rem", "2rem", "3rem")
_READ = frozenset(
    """
    align bgcolor border bordercolor cellpadding cellspacing clear color face height hspace noshade nowrap rules size
    type valign vspace width wrap
    """.split()
)
_LIST_TYPES = {
    "1": "decimal",
    "a": "lower-alpha",
    "A": "upper-alpha",
    "i": "lower-roman",
    "I": "upper-roman",
    "disc": "disc",
    "circle": "circle",
    "square": "square",
}
# in quirks mode a table starts its text anew (section 15.3.12)
_QUIRKS = ("font-size:1rem", "font-weight:normal", "font-style:normal", "line-height:normal", "white-space:normal")


# how heading cells are aligned: as what is around them, where that is aligned at all (section 15.3.8)
_HEADING_CELLS = "--wx-th"
_FIXED_WIDTH = "--wx-fixed"
_FACE = re.compile(r"(?:^|;)font(?:-family)?:(?!\"Liberation Mono\"(?:;|$))")
_ALIGNMENT = re.compile(r"(?:^|;)text-align:([^;!]+)")


def handed_on(style: str, heading_cells: bool, fixed_width: bool) -> str:
    """Declarations with what they mean for heading cells inside, and for text of fixed width.

    A heading cell is aligned as what is around it. `pre` and the like are set in 13 pixels for 16, unless their author
    names a face (the page's own style sheet says so).
    """
    if heading_cells and "text-align" in style:
        match = _ALIGNMENT.search(style)
        style += f";{_HEADING_CELLS}:{'center' if match[1] == 'start' else match[1].strip()}" if match else ""
    if fixed_width and _FACE.search(style):
        style += f";{_FIXED_WIDTH}:1em"
    return style


class Context(NamedTuple):
    """What an element hands on to those inside: an alignment that moves blocks, and declarations for table cells."""

    align: str = ""
    cells: str = ""
    quirks: bool = False


def present(tag: str, attributes: dict[str, str | None], context: Context) -> tuple[str, Context]:
    """What an element's attributes mean as declarations, and the context of its children.

    An aligning attribute moves blocks and tables inside the element too, which no CSS value says; so a table in a
    centred cell is given the margins. A table starts its own text anew.
    """
    if attributes:
        return _present(tag, tuple(pair for pair in attributes.items() if pair[0] in _READ), context)
    return _present(tag, (), context)


@lru_cache(maxsize=8192)
def _present(tag: str, written: tuple[tuple[str, str | None], ...], context: Context) -> tuple[str, Context]:
    attributes = dict(written)
    rules: list[str] = []
    align, inner = _align(tag, attributes.get("align"), context)
    rules += align
    if tag == "table":
        rules += _table(attributes, context.quirks)
        inner = inner._replace(cells=_cells(attributes))
    elif tag in ("td", "th") and context.cells:
        rules.append(context.cells)
    if not attributes:
        return ";".join(rules), inner
    if tag in _BOXES:
        rules += _box(tag, attributes)
    elif tag == "img":
        rules += _image(attributes)
    elif tag == "font":
        rules += _font(attributes)
    elif tag == "hr":
        rules += _rule(attributes)
    elif tag == "br":
        clear = {"all": "both", "both": "both", "left": "left", "right": "right"}.get(_word(attributes, "clear"))
        rules += [f"clear:{clear}"] if clear else []
    elif tag in ("ol", "ul", "li"):
        kind = (attributes.get("type") or "").strip()
        kind = _LIST_TYPES.get(kind) or _LIST_TYPES.get(kind.lower(), "")
        rules += [f"list-style-type:{kind}"] if kind else []
    elif tag == "pre" and "wrap" in attributes:
        rules.append("white-space:pre-wrap")
    return ";".join(rules), inner


def _align(tag: str, attribute: str | None, context: Context) -> tuple[list[str], Context]:
    value = (attribute or "").strip().lower()
    value = "center" if value in ("middle", "absmiddle") else value
    value = value if value in _ALIGNED else ""
    inherited = context.align
    if tag == "center":
        value = "center"
    if tag == "table":
        # a table starts anew what an attribute said, and in quirks mode what a style sheet said too
        rules = ["text-align:start"] if inherited or context.quirks else ["text-align:inherit"] if value else []
        if value == "center":
            rules += ["margin-left:auto", "margin-right:auto"]
        elif value in ("left", "right"):
            rules.append(f"float:{value}")
        # an alignment around it moves a table whatever margins its author gave it
        elif inherited == "center":
            rules += ["margin-left:auto!important", "margin-right:auto!important"]
        elif inherited == "right":
            rules.append("margin-left:auto!important")
        return rules, context._replace(align="")
    if tag == "th" and not value:
        return [f"text-align:var({_HEADING_CELLS},center)"], context  # which moves lines, not blocks
    if tag == "caption" and value in ("top", "bottom"):
        return [f"caption-side:{value}"], context
    rules = []
    if tag in _MOVED and inherited in ("center", "right"):
        rules += ["margin-left:auto", "margin-right:auto"] if inherited == "center" else ["margin-left:auto"]
    if value and tag in _ALIGNING:
        return [*rules, f"text-align:{value}"], context._replace(align=value)
    return rules, context


def _table(attributes: dict[str, str | None], quirks: bool) -> list[str]:
    rules = list(_QUIRKS) if quirks else []
    spacing, border = _px(attributes, "cellspacing", 200), _border(attributes)
    if spacing:
        rules.append(f"border-spacing:{spacing}")
    if border:
        line = _colour_of(attributes, "bordercolor")
        rules.append(f"border:{border} {'solid ' + line if line else 'outset #808080'}")
    if _word(attributes, "rules") in ("all", "rows", "cols", "groups"):
        rules.append("border-collapse:collapse")
    for name, sides in (("hspace", ("left", "right")), ("vspace", ("top", "bottom"))):
        space = _px(attributes, name, 500)
        rules += [f"margin-{side}:{space}" for side in sides if space]
    return rules


def _cells(attributes: dict[str, str | None]) -> str:
    """Declarations for every cell of a table, from the table's own attributes."""
    declarations = []
    padding = _px(attributes, "cellpadding", 200)
    if padding:
        declarations.append(f"padding:{padding}")
    rules, line = _word(attributes, "rules"), _colour_of(attributes, "bordercolor")
    if rules == "all":
        declarations.append(f"border:1px solid {line or '#808080'}")
    elif rules == "rows":
        declarations += ["border-top:1px solid #808080", "border-bottom:1px solid #808080"]
    elif rules == "cols":
        declarations += ["border-left:1px solid #808080", "border-right:1px solid #808080"]
    elif _border(attributes) and rules != "none":
        declarations.append(f"border:1px {'solid ' + line if line else 'inset #808080'}")
    return ";".join(declarations)


def _border(attributes: dict[str, str | None]) -> str:
    """The width of a table's border; the bare attribute means one pixel."""
    if "border" not in attributes:
        return ""
    value = attributes["border"]
    width = "1px" if not (value or "").strip() else _px(attributes, "border", 100) or "1px"
    return "" if width == "0px" else width


def _box(tag: str, attributes: dict[str, str | None]) -> list[str]:
    rules = []
    for name in ("width", "height"):
        length = dimension(attributes.get(name) or "")
        if length and length not in ("0px", "0%"):
            rules.append(f"{name}:{length}")
    colour = _colour_of(attributes, "bgcolor")
    if colour:
        rules.append(f"background-color:{colour}")
    vertical = _VERTICAL.get(_word(attributes, "valign"))
    if vertical:
        rules.append(f"vertical-align:{vertical}")
    if tag in ("td", "th") and "nowrap" in attributes:
        rules.append("white-space:nowrap")
    if tag in ("td", "th") and _colour_of(attributes, "bordercolor"):
        rules.append(f"border-color:{_colour_of(attributes, 'bordercolor')}")
    return rules


def _image(attributes: dict[str, str | None]) -> list[str]:
    rules = []
    for name in ("width", "height"):
        length = dimension(attributes.get(name) or "")
        if length:
            rules.append(f"{name}:{length}")
    align = _word(attributes, "align")
    if align in ("left", "right"):
        rules.append(f"float:{align}")
    elif align in ("top", "middle", "absmiddle", "bottom", "absbottom"):
        rules.append(f"vertical-align:{align.removeprefix('abs')}")
    for name, sides in (("hspace", ("left", "right")), ("vspace", ("top", "bottom"))):
        space = _px(attributes, name, 500)
        rules += [f"margin-{side}:{space}" for side in sides if space]
    border = _px(attributes, "border", 100)
    if border and border != "0px":
        rules.append(f"border:{border} solid")
    return rules


def _font(attributes: dict[str, str | None]) -> list[str]:
    rules = []
    colour = _colour_of(attributes, "color")
    if colour:
        rules.append(f"color:{colour}")
    match = re.match(r"\s*([+-]?)(\d{1,2})", attributes.get("size") or "")
    if match:
        step = int(match[2]) + 3 if match[1] == "+" else 3 - int(match[2]) if match[1] else int(match[2])
        rules.append(f"font-size:{_SIZES[min(max(step, 1), 7)]}")
    face = attributes.get("face") or ""
    if face and re.fullmatch(r"[\w ,'\".-]{1,200}", face) and face.count('"') % 2 == face.count("'") % 2 == 0:
        rules.append(f"font-family:{with_known_fonts('font-family', face)}")
    return rules


def _rule(attributes: dict[str, str | None]) -> list[str]:
    rules = []
    colour, size = _colour_of(attributes, "color"), _px(attributes, "size", 200)
    width = dimension(attributes.get("width") or "")
    if width:
        rules.append(f"width:{width}")
    if colour or "noshade" in attributes:
        colour = colour or "#808080"
        rules += ["border-style:solid", f"border-color:{colour}", f"background-color:{colour}"]
    if size and size != "0px":
        number = int(size[:-2])
        rules.append(f"height:{max(0, number - 2)}px" if number > 1 else "border-bottom-width:0")
    margins = {"left": "margin-left:0", "right": "margin-right:0"}.get(_word(attributes, "align"))
    return [*rules, margins] if margins else rules


def _word(attributes: dict[str, str | None], name: str) -> str:
    return (attributes.get(name) or "").strip().lower()


def _px(attributes: dict[str, str | None], name: str, most: int) -> str:
    """A number of pixels, "" where the attribute is missing, no number or absurd."""
    match = re.match(r"\s*(\d{1,9})", attributes.get(name) or "")
    return f"{int(match[1])}px" if match and int(match[1]) <= most else ""


def dimension(value: str) -> str:
    """A dimension attribute as a CSS length (section 2.3.4.4); "" where it is none, or absurd."""
    match = re.match(r"\s*(\d{1,9}(?:\.\d{1,4})?)\s*(%?)", value)
    if not match or float(match[1]) > (1000 if match[2] else MOST_PX):
        return ""
    return f"{min(float(match[1]), 100):g}%" if match[2] else f"{float(match[1]):g}px"


def bounded_number(value: str, most: int) -> str:
    """A whole number of an attribute, "" where it is none or larger than `most`."""
    match = re.match(r"\s*(-?\d{1,9})", value)
    return match[1] if match and int(match[1]) <= most else ""


def _colour_of(attributes: dict[str, str | None], name: str) -> str:
    return colour(attributes.get(name) or "")


def colour(value: str) -> str:
    """A legacy colour value as CSS (section 2.3.6); "" where it is none.

    Hexadecimal digits without their sign are a colour too; the chart of other wrong values is not followed.
    """
    value = value.strip()
    if re.fullmatch(r"[0-9A-Fa-f]{6}|[0-9A-Fa-f]{3}", value):
        return "#" + value
    if re.fullmatch(r"#[0-9A-Fa-f]{3,8}|[A-Za-z]{3,20}|rgba?\([\d.,% ]{5,40}\)", value):
        return "" if value.lower() in ("transparent", "inherit", "none", "currentcolor") else value
    return ""
