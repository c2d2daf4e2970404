"""HTML of a message to HTML for a page: only what is known, written anew, with nothing to run or to fetch.

The tree is read by an HTML5 parser and written out again element by element; whatever is not on the lists below is
left out and its text kept. So nothing reaches the engine that was not put there on purpose.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from html import escape
from typing import NamedTuple

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.notes import Note
from wexagraph.pages.cleaning.hidden import Sight
from wexagraph.pages.cleaning.looks import AS, CELLS, Looks, lowered
from wexagraph.pages.cleaning.pictures import Pictures, remote_address
from wexagraph.pages.cleaning.presentational_hints import MOST_CELLS, Context, present
from wexagraph.pages.cleaning.quirks import (
    FILLING,
    MOST_IN_LAYOUT,
    Relief,
    areas_of,
    escaped,
    has_one_column,
    host,
    in_quirks_mode,
    is_spacer,
    link_target,
    makes_height,
    named_host,
    substantial,
    target_host,
    without_height,
    without_margins,
)
from wexagraph.text import shortened, without_controls, without_tabs

MOST_DEPTH = 120
MOST_TABLES = 12
"""So many tables may stand one in the other; each more doubles what an engine has to try."""
MOST_RUN = 20_000
"""Characters of a line that goes on without end; engines take long over longer ones, so that a new one begins there."""
MOST_ELEMENTS = 150_000
_VOID = frozenset({"br", "col", "hr", "img", "wbr"})
_DROPPED = frozenset(
    """
    applet area audio base basefont canvas embed frame frameset head iframe link map meta noembed noframes object
    param script source style svg template title track video
    """.split()
)
_ACTIVE = frozenset(
    {"applet", "audio", "canvas", "embed", "frame", "form", "iframe", "object", "script", "svg", "video"}
)
_TABULAR = frozenset("table thead tbody tfoot tr td th caption colgroup col".split())
_ROWS = frozenset({"tr", "table"})
_INLINE = frozenset(
    """
    a abbr b bdi bdo big cite code del dfn em font i ins kbd label mark nobr q rp rt ruby s samp small span strike
    strong sub sup time tt u var wbr
    """.split()
)
_SHRINKING = re.compile(r"(?i)float\s*:\s*(?:left|right)|display\s*:\s*inline-(?:block|table)")
_BLOCKS = frozenset({"block", "table", "flex", "list-item", "grid"})
_FIELD_TAGS = frozenset({"input", "textarea", "select", "button"})
_FIELDS = frozenset("text submit button email number date search tel url".split())


@dataclass
class Clean:
    """Cleaned HTML of a body: a fragment, its style sheet, the text that is to be seen in it, and notes.

    `held` says that some of the text stands in a box that may be too small for it, `bare` that a picture which was to
    lie behind text is not there.
    """

    html: str
    css: str
    text: str
    notes: list[Note]
    held: bool
    bare: bool


@dataclass
class _State:
    out: list[str] = field(default_factory=list)
    text: list[str] = field(default_factory=list)
    hidden: int = 0
    elements: int = 0
    active: set[str] = field(default_factory=set)
    remote: int = 0
    missing: int = 0
    flattened: bool = False
    held: bool = False
    run: int = 0
    column: int = 0


class _Place(NamedTuple):
    """Where in the tree we are: depth, inherited presentation, and whether text is out of sight, of no size, held in a
    box, in an element that gives lines no height, or in a box whose width is that of what it holds (`shrinks`)."""

    depth: int = 0
    look: Context = Context()
    hidden: bool = False
    sizeless: bool = False
    tables: int = 0
    unrolled: bool = False
    low: bool = False
    pre: bool = False
    held: bool = False
    shrinks: bool = False


def clean(
    html: str, pictures: Pictures, width: int, scope: str, show_hidden: bool = False, relief: Relief = Relief.NONE
) -> Clean:
    """Clean the HTML of a message's body for a page whose content is `width` CSS pixels wide.

    The fragment has to be put into an element of the class `scope`, to which its style sheet is confined.
    `show_hidden` shows what the author hid.
    """
    return _Cleaner(pictures, width, scope, show_hidden, relief).run(html)


class _Cleaner:
    def __init__(self, pictures: Pictures, width: int, scope: str, show_hidden: bool, relief: Relief) -> None:
        self.pictures, self.width, self.relief = pictures, width, relief
        self.looks = Looks(pictures.resolve, width, scope, show_hidden, relief)
        self.state = _State()
        self.low: frozenset[int] = frozenset()
        self.areas: dict[str, list[str]] = {}
        self.edges: dict[int, str] = {}

    def run(self, html: str) -> Clean:
        tree = LexborHTMLParser(without_controls(html))
        state = self.state
        if tree.css_first("script") is not None:
            state.active.add("script")
        looks = self.looks
        sheets = looks.sheets(tree)
        self.sight = Sight(tree, looks.hiding)
        body = tree.body
        weak = ""
        if body is not None:
            weak = looks.body_rules(body)
            self.low = without_height(tree, html, _INLINE) if self.relief == Relief.NONE else frozenset()
            self.edges = without_margins(tree, html)
            self.areas = areas_of(tree) if "<area" in html.lower() else {}
            low = body.mem_id in self.low
            state.out.append(lowered(f"<div{looks.body_attributes(body)}>", low))
            state.held = self.sight.in_doubt
            held = self.sight.of(body, looks.style_of(body)).held
            self._children(body, _Place(look=Context(quirks=in_quirks_mode(html)), low=low, held=held))
            state.out.append("</div>")
        css = "\n".join(filter(None, [weak, looks.presented(), *sheets]))
        bare = looks.lost_background
        return Clean("".join(state.out), css, "".join(state.text), self._notes(), state.held, bare)

    def _children(self, node: LexborNode, place: _Place) -> None:
        child = node.first_child
        cells = 0
        while child is not None:
            tag = child.tag
            own = place.low and makes_height(child, tag, _INLINE)
            if own:
                self.state.out.append("<span>")
            if tag == "-text":
                self._words(child.text_content or "", place)
            elif tag is not None and tag[0] not in "-!_":
                if tag in CELLS:
                    cells += 1
                self._element(child, tag, place, flat=tag in CELLS and cells > MOST_CELLS)
            if own:
                self.state.out.append("</span>")
            child = child.next

    def _words(self, words: str, place: _Place) -> None:
        state = self.state
        while state.run + len(words) > MOST_RUN:
            room = MOST_RUN - state.run
            cut = words.rfind(" ", 0, room) + 1 or room
            self._shown(words[:cut], place)
            state.out.append("<div></div>")
            state.run, words = 0, words[cut:]
        state.run += len(words)
        self._shown(words, place)

    def _shown(self, words: str, place: _Place) -> None:
        seen = not (place.hidden or place.sizeless)
        if place.pre:
            words = self._without_tabs(words)
        if seen or self.relief in (Relief.NONE, Relief.UNROLLED, Relief.BACKED):
            self.state.out.append(escaped(words, MOST_IN_LAYOUT))
        if seen:
            self.state.text.append(words)
            self.state.held = self.state.held or (place.held and not words.isspace())
        else:
            self.state.hidden += len(words.strip(FILLING))

    def _without_tabs(self, words: str) -> str:
        """Text of `pre`, whose lines may go through several elements."""
        state = self.state
        spread = without_tabs(words, state.column) if "\t" in words else words
        _, end, last = spread.rpartition("\n")
        state.column = len(last) if end else state.column + len(last)
        return spread

    def _element(self, node: LexborNode, tag: str, place: _Place, flat: bool) -> None:
        state = self.state
        state.elements += 1
        if tag in _ACTIVE:
            state.active.add(tag)
        if tag in _DROPPED:
            if tag in ("object", "video", "audio", "canvas"):
                self._children(node, place._replace(depth=place.depth + 1))  # meant for those who can't show it
            return
        attributes = node.attributes
        unrolled = place.unrolled
        if tag == "table" and self.relief == Relief.UNROLLED:
            unrolled = has_one_column(node)
        if unrolled and tag in CELLS and is_spacer(node):
            return
        if unrolled and tag in _TABULAR:
            attributes = {**attributes, "style": f"{attributes.get('style') or ''};display:block;height:auto"}
        edge = self.edges.get(node.mem_id, "")
        if tag == "a" and "href" in attributes and self._is_around_blocks(node):
            # a browser's link is live on the blocks in it, the engine's on its own text alone
            attributes = {**attributes, "style": f"{attributes.get('style') or ''};display:block"}
        shrinks = place.shrinks
        if self.looks.has_fixed_tables and tag not in _INLINE:
            width = self.sight.declared(node, "width") or (attributes.get("width") or "").strip()
            if tag == "table" and shrinks and width.endswith("%"):
                # a browser gives such a table the width that there is, the engine that of its longest word
                attributes = {**attributes, "style": f"{attributes.get('style') or ''};table-layout:auto !important"}
            if not width.endswith("%"):
                own = tag == "table" or _SHRINKING.search(attributes.get("style") or "") is not None
                shrinks = (shrinks or own) and not width
        if tag == "p" and place.look.quirks and node.css_first("table") is not None:
            # in quirks mode a paragraph may hold a table; in the document that we write, the table would end it
            tag, edge = "div", f"margin-top:1em;margin-bottom:1em;{edge}".rstrip(";")
        style, opening, inner = self.looks.of(tag, attributes, place.look, edge)
        hidden, sizeless, held = self.sight.of(node, style)
        around = place
        place = _Place(
            around.depth + 1,
            inner,
            around.hidden or hidden,
            around.sizeless if sizeless is None else sizeless,
            around.tables + (tag == "table"),
            unrolled,
            node.mem_id in self.low,
            around.pre or tag == "pre",
            around.held or held,
            shrinks,
        )
        if tag not in _INLINE:
            state.text.append(" ")
            state.run = state.column = 0
        if tag == "img":
            self._image(node, attributes, style, place)
            return
        if tag in ("input", "textarea", "select"):
            self._field(node, tag, place)
            return
        too_many = tag in _TABULAR and (place.tables > MOST_TABLES or self.relief == Relief.FLAT)
        if flat or too_many or place.depth > MOST_DEPTH or state.elements > MOST_ELEMENTS:
            state.flattened = state.flattened or self.relief != Relief.FLAT
            state.out.append("<br>" if tag in _ROWS else " ")
            if place.depth < 4 * MOST_DEPTH:
                self._children(node, place._replace(look=around.look, low=around.low))
            else:
                self._words(node.text(separator=" "), place)
            return
        if not opening:
            self._children(node, place._replace(low=around.low))
            return
        state.out.append(lowered(opening, place.low))
        if tag == "br" and "clear" in attributes:
            state.out.append('<span class="wx-clear"></span>')  # the engine does not look at that of a line break
        if tag not in _VOID:
            self._children(node, place)
            state.out.append(f"</{AS.get(tag, tag)}>")
            if tag == "a":
                self._target(node, attributes, place)
        if tag not in _INLINE:
            state.text.append(" ")
            state.run = 0

    def _is_around_blocks(self, node: LexborNode) -> bool:
        """Whether an inline element holds blocks, and nothing else that shows."""
        if self.sight.display_of(node) not in ("", "inline"):
            return False
        child, blocks = substantial(node.first_child, "next"), False
        while child is not None:
            tag = child.tag or ""
            if tag == "-text":
                return False
            shown = self.sight.display_of(child)
            inline = tag in _INLINE or tag in _VOID or tag in _FIELD_TAGS
            if shown in _BLOCKS or not (shown or inline) or (tag in _INLINE and self._is_around_blocks(child)):
                blocks = True
            elif tag != "br" and shown != "none":
                return False
            child = substantial(child.next, "next")
        return blocks

    def _target(self, node: LexborNode, attributes: dict[str, str | None], place: _Place) -> None:
        """Print where a link leads whose text names another host: a record must show it."""
        link = link_target(attributes.get("href") or "")
        if not link or place.hidden or place.sizeless:
            return
        named = named_host(" ".join(node.text(separator=" ").split()))
        if named and named != target_host(link):
            target = f" [{shortened(link, 300)}]"
            self.state.out.append(f'<span class="wx-target">{escaped(target)}</span>')
            self.state.text.append(target)

    def _image(self, node: LexborNode, attributes: dict[str, str | None], style: str, place: _Place) -> None:
        source = (attributes.get("src") or "").strip()
        alternative = " ".join((attributes.get("alt") or "").split())
        width, height = _px(attributes.get("width")), _px(attributes.get("height"))
        tiny = (width is not None and width <= 3) or (height is not None and height <= 3)
        unseen = place.hidden or (tiny and not alternative)  # a spacer or a counter, meant not to be seen
        address = remote_address(source)
        name = self.pictures.resolve(source) if not (unseen and address) else None
        if name is not None:
            presented = present("img", attributes, place.look)[0]
            written = _px(attributes.get("width"))
            if written is not None and written > self.width:
                style = f"height:auto;{style}"  # made narrower to fit, it has to keep its proportions
            more = self.looks.attributes("img", attributes, style, presented)
            if attributes.get("alt") is None and name in self.pictures.called:
                more += f' alt="{escape(self.pictures.called[name])}"'  # not described, but named
            self._picture(f'<img src="{escape(name)}"{more}>', attributes)
            return
        if source.lower().startswith(("http:", "https:", "//")):
            self.state.remote += address not in self.pictures.fetched
        else:
            self.state.missing += 1
        if unseen:
            return
        presented = present("img", attributes, place.look)[0]
        more = self.looks.attributes("img", attributes, style, presented)
        frame = self.pictures.frame(alternative, host(source) or self.pictures.absent, width, height)
        self._picture(f'<img src="{escape(frame)}"{more}>', attributes)

    def _picture(self, tag: str, attributes: dict[str, str | None]) -> None:
        """A picture, with the areas of its map (HTML, section 4.8.14) as links over it."""
        areas = "".join(self.areas.get((attributes.get("usemap") or "").strip().removeprefix("#"), ()))
        self.state.out.append(f'<span class="wx-map">{tag}{areas}</span>' if areas else tag)

    def _field(self, node: LexborNode, tag: str, place: _Place) -> None:
        """What a form field shows: its value. The field itself goes."""
        self.state.active.add("form")
        value = node.text(separator=" ")
        if tag == "input":
            shown = (node.attributes.get("type") or "text").lower() in _FIELDS
            value = (node.attributes.get("value") or "") if shown else ""
        self.state.out.append(" <span>")
        self._words(f" {value} ", place)
        self.state.out.append("</span> ")

    def _notes(self) -> list[Note]:
        state, notes = self.state, []
        if state.remote:
            notes.append(Note("picture-remote", str(state.remote)))
        if state.missing:
            notes.append(Note("picture-missing", str(state.missing)))
        if state.active:
            notes.append(Note("content-removed", ", ".join(sorted(state.active))))
        if state.hidden:
            notes.append(Note("text-hidden", f"{state.hidden} characters"))
        if state.flattened:
            notes.append(Note("body-too-deep"))
        return notes


def _px(value: str | None) -> int | None:
    match = re.match(r"\s*(\d{1,6})\s*(?:px)?\s*$", value or "")
    return int(match[1]) if match else None
