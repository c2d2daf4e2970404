"""What an element of a message looks like: its tag as it is written anew, and the style sheets it stands under."""

from __future__ import annotations

import re
from html import escape
from typing import Any, NamedTuple

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.pages.cleaning.backgrounds import STAND_IN
from wexagraph.pages.cleaning.css import (
    Names,
    Resolve,
    declarations,
    media_applies,
    stylesheet,
    variables_of,
    without_holding,
)
from wexagraph.pages.cleaning.hidden import HIDING, Rule, without_hiding
from wexagraph.pages.cleaning.presentational_hints import (
    KEPT_NUMBERS,
    Context,
    bounded_number,
    colour,
    handed_on,
    present,
)
from wexagraph.pages.cleaning.quirks import EMPTY_LINES, Relief, body_margins, link_target, quirky_height

_KEPT = frozenset(
    """
    a abbr address article aside b bdi bdo big blockquote br caption center cite code col colgroup dd del dfn dir
    div dl dt em figcaption figure font footer h1 h2 h3 h4 h5 h6 header hr i img ins kbd li main mark menu nav nobr
    ol p pre q rp rt ruby s samp section small span strike strong sub summary sup table tbody td tfoot th thead time
    tr tt u ul var wbr
    """.split()
)
AS = {
    "fieldset": "div",
    "legend": "div",
    "details": "div",
    "form": "div",
    "xmp": "pre",
    "listing": "pre",
    "plaintext": "pre",
    "label": "span",
    "button": "span",
    "option": "span",
}
CELLS = frozenset({"td", "th"})
_ATTRIBUTES = frozenset("alt class colspan dir id lang role rowspan scope span start title value".split())
_SHOWN_SO = ("display:none", "visibility:", "color:", "background", "font-weight:", "font-style:", "text-align:")
_LONE = frozenset({"a", "img"})  # each with an address of its own


class Opened(NamedTuple):
    """What an element becomes by its name and attributes alone: its style, its tag as written, its children's look."""

    style: str
    tag: str
    inner: Context


class Looks:
    """How the elements of one document look on a page whose content is `width` CSS pixels wide.

    `resolve` gives the name of a picture for its address; `scope` is the class to which the style sheets are confined.
    """

    def __init__(self, resolve: Resolve, width: int, scope: str, show_hidden: bool, relief: Relief) -> None:
        self.resolve, self.width, self.scope = resolve, width, scope
        self.show_hidden, self.relief = show_hidden, relief
        self.hiding: list[Rule] = []
        self._headed = self._fixed = self.lost_background = self.has_fixed_tables = False
        self._variables: dict[str, list[Any]] = {}
        self._classes: dict[str, str] = {}
        self._known: dict[tuple[object, ...], Opened] = {}

    def sheets(self, tree: LexborHTMLParser) -> list[str]:
        """The document's style sheets, cleaned. What hides elements is put into `hiding`."""
        self._headed = tree.css_first("th") is not None
        self._fixed = tree.css_first("pre, code, kbd, samp, tt") is not None
        styles = tree.css("style")
        names = _names_of(tree) if styles else Names()
        if any("var(" in style.text() for style in styles) or tree.css_first("[style*='var(']") is not None:
            for style in styles:
                self._variables |= variables_of(style.text())
        self.has_fixed_tables = any("fixed" in style.text() for style in styles) or (
            tree.css_first("table[style*='fixed']") is not None
        )
        return [self._sheet(style.text(), style.attributes.get("media") or "all", names) for style in styles]

    def _background(self, address: str) -> str | None:
        """A picture of a style: its name; where it is not there, the colour that is to stand in its place, if any."""
        name = self.resolve(address)
        if name is None and address.strip():
            self.lost_background = True
            return STAND_IN if self.relief == Relief.BACKED else None
        return name

    def presented(self) -> str:
        """Rules for what attributes say, weaker than any of the author's."""
        return "".join(f".{name}{{{rule}}}" for rule, name in self._classes.items())

    def _sheet(self, css: str, media: str, names: Names) -> str:
        if not media_applies(media, self.width):
            return ""
        return stylesheet(
            css, f".{self.scope} .wx-body", self.width, self._background, self._seen, names, self._variables
        )

    def _seen(self, selector: str, rules: str) -> str:
        rules = without_hiding(rules) if self.show_hidden else rules
        if any(name in rules for name in HIDING):
            self.hiding.append(Rule(selector, rules))
        return self._relieved(handed_on(rules, self._headed, self._fixed))

    def _relieved(self, style: str) -> str:
        """A style with what the page is made without left out; what its author hid stays hidden."""
        if self.relief == Relief.UNHELD:
            return without_holding(style)
        if self.relief == Relief.FLAT:
            return ";".join(d for d in style.split(";") if d.startswith(_SHOWN_SO))
        return style

    def body_rules(self, body: LexborNode) -> str:
        """Rules for the body's presentational attributes, weaker than any of the author's (HTML, section 15.3.3)."""
        attributes, rules = body.attributes, []
        for name, selector, rule in (
            ("bgcolor", "", "background-color"),
            ("text", "", "color"),
            ("link", " a", "color"),
        ):
            value = colour(attributes.get(name) or "")
            if value:
                rules.append(f".{self.scope}{selector}{{{rule}:{value}}}")
        margins = body_margins(attributes)
        if margins:
            rules.append(f".{self.scope} .wx-body{{{margins}}}")
        picture = self._background(attributes.get("background") or "")
        if picture and not (picture.startswith("#") and "bgcolor" in attributes):
            rules.append(f".{self.scope}{{{_behind(picture)}}}")
        return "".join(rules)

    def body_attributes(self, body: LexborNode) -> str:
        attributes = body.attributes
        classes = _classes(attributes.get("class") or "")
        text = f' class="{escape(f"wx-body {classes}".strip())}"'
        style = self.style_of(body)
        if style:
            text += f' style="{escape(style)}"'
        root = body.parent.attributes if body.parent is not None else {}
        direction = (attributes.get("dir") or root.get("dir") or "").lower()
        return text + (f' dir="{direction}"' if direction in ("rtl", "ltr") else "")

    def style_of(self, node: LexborNode) -> str:
        """The style attribute of an element, cleaned."""
        return self._style(node.attributes)

    def _style(self, attributes: dict[str, str | None]) -> str:
        style = declarations(attributes.get("style") or "", self._background, self._variables)
        style = handed_on(style, self._headed, self._fixed)
        return self._relieved(without_hiding(style) if self.show_hidden else style)

    def of(self, tag: str, attributes: dict[str, str | None], look: Context, edge: str) -> Opened:
        """What an element becomes. The tools of the trade write the same one hundreds of times."""
        if tag in _LONE:
            return self._open(tag, attributes, look, edge)
        key = (tag, look, edge, *attributes.items())
        opening = self._known.get(key)
        if opening is None:
            opening = self._known[key] = self._open(tag, attributes, look, edge)
        return opening

    def _open(self, tag: str, attributes: dict[str, str | None], look: Context, edge: str) -> Opened:
        style = self._style(attributes) if attributes else ""
        if tag == "form" and look.quirks:
            edge = "margin-bottom:1em"
        tag = AS.get(tag, tag)
        if tag not in _KEPT or tag == "img":
            return Opened(style, "", look)
        presented, inner = present(tag, attributes, look)
        if look.quirks and tag in CELLS and "width" not in attributes and quirky_height(style, "height" in attributes):
            style += ";box-sizing:border-box"
        if "text-align" in style:
            inner = inner._replace(align="")  # which moves lines, not blocks
        presented = ";".join(filter(None, [presented, edge]))
        presented = handed_on(presented, self._headed and tag != "th", self._fixed)
        return Opened(style, f"<{tag}{self.attributes(tag, attributes, style, presented)}>", inner)

    def attributes(self, tag: str, given: dict[str, str | None], style: str, presented: str) -> str:
        """The attributes to keep. `presented` are declarations that any style of the author's overrides."""
        out = []
        classes = _classes(given.get("class") or "") if given else ""
        if given and "background" in given:
            picture = self._background(given["background"] or "")
            if picture and not (picture.startswith("#") and "bgcolor" in given):
                presented = ";".join(filter(None, [presented, _behind(picture)]))
        if presented:
            known = self._classes
            classes = f"{known.setdefault(presented, f'{self.scope}-{len(known)}')} {classes}".rstrip()
        if classes:
            out.append(f' class="{classes}"')
        for name, raw in given.items():
            value = raw or ""
            if name == "align" and tag == "table":  # for style sheets that ask for it
                out.append(f' align="{escape(value)}"')
            if name == "class" or name not in _ATTRIBUTES:
                continue
            if name == "id":
                value = _classes(value)  # for the author's style sheet; links to it are not kept
                if not value:
                    continue
            if name in KEPT_NUMBERS:
                value = bounded_number(value, KEPT_NUMBERS[name])
                if not value:
                    continue
            out.append(f' {name}="{escape(value)}"')
        if tag == "a":
            link = link_target(given.get("href") or "")
            if link:
                out.append(f' href="{escape(link)}"')
        if style:
            out.append(f' style="{escape(style)}"')
        return "".join(out)


def _behind(picture: str) -> str:
    """The declaration of a picture, or of the colour that stands for one, behind an element."""
    return f"background-color:{picture}" if picture.startswith("#") else f'background-image:url("{picture}")'


def lowered(tag: str, low: bool) -> str:
    """The opening tag of an element that gives lines no height, where it is one."""
    if not low:
        return tag
    if ' class="' in tag:
        return tag.replace(' class="', f' class="{EMPTY_LINES} ', 1)
    return f'{tag[:-1]} class="{EMPTY_LINES}">'


def _names_of(tree: LexborHTMLParser) -> Names:
    """The classes and IDs of a document, and the classes of its body."""
    classes = {word for node in tree.css("[class]") for word in (node.attributes.get("class") or "").lower().split()}
    ids = {(node.attributes.get("id") or "").lower() for node in tree.css("[id]")}
    body = (tree.body.attributes.get("class") or "").lower().split() if tree.body is not None else ()
    return Names(frozenset(classes), frozenset(ids), frozenset(body))


def _classes(value: str) -> str:
    """Class names that can't be taken for our own."""
    return " ".join(
        word for word in value.split()[:20] if re.fullmatch(r"[\w-]{1,80}", word) and not word.startswith("wx-")
    )
