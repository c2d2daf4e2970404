"""HTML of a message to HTML for a page: only what is known, written anew, with nothing to run or to fetch.

The tree is read by an HTML5 parser and written out again element by element; whatever is not on the lists below is
left out and its text kept. So nothing reaches the engine that was not put there on purpose.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from html import escape
from urllib.parse import urlsplit

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.notes import Note
from wexagraph.pages.css import Resolve, declarations, media_applies, stylesheet
from wexagraph.pages.pictures import Pictures
from wexagraph.pages.presentation import MOST_CELLS, NUMBERS, alignment, bounded_number, colour, image_style
from wexagraph.text import without_controls

MOST_DEPTH = 120
MOST_ELEMENTS = 150_000
_KEPT = frozenset(
    [
        "a",
        "abbr",
        "address",
        "article",
        "aside",
        "b",
        "bdi",
        "bdo",
        "big",
        "blockquote",
        "br",
        "caption",
        "center",
        "cite",
        "code",
        "col",
        "colgroup",
        "dd",
        "del",
        "dfn",
        "dir",
        "div",
        "dl",
        "dt",
        "em",
        "figcaption",
        "figure",
        "font",
        "footer",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "header",
        "hr",
        "i",
        "img",
        "ins",
        "kbd",
        "li",
        "main",
        "mark",
        "menu",
        "nav",
        "nobr",
        "ol",
        "p",
        "pre",
        "q",
        "rp",
        "rt",
        "ruby",
        "s",
        "samp",
        "section",
        "small",
        "span",
        "strike",
        "strong",
        "sub",
        "summary",
        "sup",
        "table",
        "tbody",
        "td",
        "tfoot",
        "th",
        "thead",
        "time",
        "tr",
        "tt",
        "u",
        "ul",
        "var",
        "wbr",
    ]
)
_AS = {
    "fieldset": "div",
    "legend": "div",
    "details": "div",
    "label": "span",
    "button": "span",
    "option": "span",
}
_VOID = frozenset({"br", "col", "hr", "img", "wbr"})
_DROPPED = frozenset(
    [
        "applet",
        "area",
        "audio",
        "base",
        "basefont",
        "canvas",
        "embed",
        "frame",
        "frameset",
        "head",
        "iframe",
        "link",
        "map",
        "meta",
        "noembed",
        "noframes",
        "object",
        "param",
        "script",
        "source",
        "style",
        "svg",
        "template",
        "title",
        "track",
        "video",
    ]
)
_ACTIVE = frozenset(
    {"applet", "audio", "canvas", "embed", "frame", "form", "iframe", "object", "script", "svg", "video"}
)
_ATTRIBUTES = frozenset(
    [
        "align",
        "alt",
        "bgcolor",
        "border",
        "cellpadding",
        "cellspacing",
        "class",
        "clear",
        "color",
        "colspan",
        "compact",
        "dir",
        "face",
        "height",
        "hspace",
        "lang",
        "noshade",
        "nowrap",
        "rowspan",
        "rules",
        "size",
        "span",
        "start",
        "style",
        "title",
        "type",
        "valign",
        "value",
        "vspace",
        "width",
    ]
)
_LINKS = frozenset({"http", "https", "mailto", "tel", "ftp"})
_CELLS = frozenset({"td", "th"})


@dataclass
class Clean:
    """Cleaned HTML of a body: a fragment, its style sheet, and notes."""

    html: str
    css: str
    notes: list[Note]


@dataclass
class _State:
    out: list[str] = field(default_factory=list)
    css: list[str] = field(default_factory=list)
    elements: int = 0
    active: set[str] = field(default_factory=set)
    remote: int = 0
    missing: int = 0
    flattened: bool = False


def clean(html: str, pictures: Pictures, width: int, scope: str) -> Clean:
    """Clean the HTML of a message's body for a page whose content is `width` CSS pixels wide.

    The fragment has to be put into an element of the class `scope`, to which its style sheet is confined.
    """
    return _Cleaner(pictures, width, scope).run(html)


class _Cleaner:
    def __init__(self, pictures: Pictures, width: int, scope: str) -> None:
        self.pictures, self.width, self.scope, self.state = pictures, width, scope, _State()
        self.resolve: Resolve = pictures.resolve

    def run(self, html: str) -> Clean:
        tree = LexborHTMLParser(without_controls(html))
        state = self.state
        if tree.css_first("script") is not None:
            state.active.add("script")
        for style in tree.css("style"):
            media = style.attributes.get("media") or "all"
            state.css.append(self._sheet(style.text(), media))
        body = tree.body
        if body is not None:
            state.out.append(f"<div{self._body_attributes(body)}>")
            self._children(body, 0, "")
            state.out.append("</div>")
        return Clean("".join(state.out), "\n".join(filter(None, state.css)), self._notes())

    def _sheet(self, css: str, media: str) -> str:
        if not media_applies(media, self.width):
            return ""
        return stylesheet(css, f".{self.scope} .wx-body", self.width, self.resolve)

    def _body_attributes(self, body: LexborNode) -> str:
        attributes = body.attributes
        for name, rule in (("bgcolor", "background-color"), ("text", "color")):
            value = attributes.get(name)
            if value and re.fullmatch(r"#?\w{1,20}", value):
                # a presentational attribute gives way to any style sheet of the author's
                self.state.css.insert(0, f".{self.scope}{{{rule}:{colour(value)}}}")
        style = declarations(attributes.get("style") or "", self.resolve)
        direction = attributes.get("dir")
        classes = _classes(attributes.get("class") or "")
        text = f' class="{escape(f"wx-body {classes}".strip())}"'
        if style:
            text += f' style="{escape(style)}"'
        if direction and direction.lower() in ("rtl", "ltr"):
            text += f' dir="{direction.lower()}"'
        return text

    def _children(self, node: LexborNode, depth: int, align: str) -> None:
        child = node.first_child
        cells = 0
        while child is not None:
            tag = child.tag
            if tag == "-text":
                self.state.out.append(escape(child.text_content or "", quote=False))
            elif tag is not None and tag[0] not in "-!_":
                if tag in _CELLS:
                    cells += 1
                self._element(child, tag, depth, align, flat=tag in _CELLS and cells > MOST_CELLS)
            child = child.next

    def _element(self, node: LexborNode, tag: str, depth: int, align: str, flat: bool) -> None:
        state = self.state
        state.elements += 1
        if tag in _ACTIVE:
            state.active.add(tag)
        if tag in _DROPPED:
            if tag in ("object", "video", "audio", "canvas"):
                self._children(node, depth + 1, align)  # what stands inside is meant for those who can't show it
            return
        if tag == "img":
            self._image(node)
            return
        if tag in ("input", "textarea", "select"):
            self._field(node, tag)
            return
        tag = _AS.get(tag, tag)
        if flat or depth > MOST_DEPTH or state.elements > MOST_ELEMENTS:
            state.flattened = True
            state.out.append(" ")
            if depth < 4 * MOST_DEPTH:
                self._children(node, depth + 1, align)
            else:
                state.out.append(escape(node.text(separator=" "), quote=False))
            return
        if tag not in _KEPT:
            self._children(node, depth + 1, align)
            return
        style, inner = alignment(tag, node.attributes.get("align"), align)
        state.out.append(f"<{tag}{self._attributes(node, tag, style)}>")
        if tag not in _VOID:
            self._children(node, depth + 1, inner)
            state.out.append(f"</{tag}>")

    def _attributes(self, node: LexborNode, tag: str, presented: str = "") -> str:
        """The attributes to keep. `presented` are declarations that any style of the author's overrides."""
        found = node.attributes
        if not found:
            return f' style="{presented}"' if presented else ""
        out, extra = [], [presented]
        for name, raw in found.items():
            value = raw or ""
            if name == "style" or name not in _ATTRIBUTES:
                continue
            if name == "class":
                value = _classes(value)
                if not value:
                    continue
            elif name in NUMBERS:
                value = bounded_number(value, NUMBERS[name])
                if not value:
                    continue
            out.append(f' {name}="{escape(value)}"')
        if tag == "a":
            link = _link(found.get("href") or "")
            if link:
                out.append(f' href="{escape(link)}"')
        if "background" in found:
            name_of = self.resolve(found["background"] or "")
            if name_of:
                extra.append(f'background-image:url("{name_of}")')
        style = ";".join(filter(None, [*extra, declarations(found.get("style") or "", self.resolve)]))
        if style:
            out.append(f' style="{escape(style)}"')
        return "".join(out)

    def _image(self, node: LexborNode) -> None:
        attributes = node.attributes
        source = (attributes.get("src") or "").strip()
        alternative = " ".join((attributes.get("alt") or "").split())
        name = self.resolve(source)
        if name is not None:
            self.state.out.append(f'<img src="{escape(name)}"{self._attributes(node, "img", image_style(attributes))}>')
            return
        width, height = _px(attributes.get("width")), _px(attributes.get("height"))
        tiny = (width is not None and width <= 3) or (height is not None and height <= 3)
        host = _host(source)
        if source.lower().startswith(("http:", "https:", "//")):
            self.state.remote += 1
        else:
            self.state.missing += 1
        if tiny and not alternative:
            return  # a spacer or a counter, meant not to be seen
        if "display:none" in (attributes.get("style") or "").replace(" ", "").lower():
            return
        size = "".join(
            f"min-{side}:{min(value, limit)}px;"
            for side, value, limit in (("width", width, 560), ("height", height, 240))
            if value is not None and value > 16
        )
        label = f'<span class="wx-host">{escape(host or "not in the message")}</span>'
        text = f"{escape(alternative)} " if alternative else ""
        self.state.out.append(f'<span class="wx-picture" style="{size}">{text}{label}</span>')

    def _field(self, node: LexborNode, tag: str) -> None:
        """What a form field shows: its value. The field itself goes."""
        self.state.active.add("form")
        if tag == "input":
            kind = (node.attributes.get("type") or "text").lower()
            if kind in ("text", "submit", "button", "email", "number", "date", "search", "tel", "url"):
                self.state.out.append(f" <span>{escape(node.attributes.get('value') or '')}</span> ")
            return
        self.state.out.append(f"<span>{escape(node.text(separator=' '))}</span>")

    def _notes(self) -> list[Note]:
        state, notes = self.state, []
        if state.remote:
            notes.append(Note("picture-remote", str(state.remote)))
        if state.missing:
            notes.append(Note("picture-missing", str(state.missing)))
        if state.active:
            notes.append(Note("content-removed", ", ".join(sorted(state.active))))
        if state.flattened:
            notes.append(Note("body-too-deep"))
        return notes


def _classes(value: str) -> str:
    """Class names that can't be taken for our own."""
    return " ".join(
        word for word in value.split()[:20] if re.fullmatch(r"[\w-]{1,80}", word) and not word.startswith("wx-")
    )


def _px(value: str | None) -> int | None:
    match = re.match(r"\s*(\d{1,6})\s*(?:px)?\s*$", value or "")
    return int(match[1]) if match else None


def _link(href: str) -> str:
    """A link's target where it is one that a reader may follow from a page; "" otherwise."""
    target = re.sub(r"[\x00-\x20]+", "", href)
    scheme, colon, _ = target.partition(":")
    return target[:4000] if colon and scheme.lower() in _LINKS else ""


def _host(address: str) -> str:
    try:
        return (urlsplit(address.strip()).hostname or "")[:80]
    except ValueError:
        return ""
