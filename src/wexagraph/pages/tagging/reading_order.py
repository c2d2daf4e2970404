"""What a page says, in the order of its HTML: the elements of a structure tree, and the text that belongs to each."""

from __future__ import annotations

import re
import unicodedata
from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from html import unescape
from itertools import compress

from selectolax.lexbor import LexborHTMLParser, LexborNode

from wexagraph.pages.tagging.data_tables import Cell, data_cells

_CELLS = frozenset({"TD", "TH", "LBody", "Note"})
_FOOTNOTE = re.compile(r"(?:^|-)(?:foot|end)note-\d+$")
_HEADINGS = {f"h{level}": level for level in range(1, 7)}
_INLINE = frozenset(
    "a abbr acronym b bdi bdo big cite code del dfn em font i img ins kbd label mark q s samp small span strike strong"
    " sub sup time tt u var wbr br".split()
)
_IN_TEXT = frozenset({"Link", "Code", "Span"})
_CODE = frozenset({"code", "kbd", "samp", "tt"})
_LISTS = frozenset({"ul", "ol", "menu", "dir"})
_THEIRS = ("wx-mail ", "wx-text", "wx-document", "wx-sheet")
"""How the classes of what others wrote begin."""
_SILENT = frozenset({"head", "style", "script", "title", "template"})
_LANGUAGE = re.compile(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8}){0,3}")
_SVG_TEXT = re.compile(r"<text\b[^>]*>([^<]*)</text>")
_UNSEEN = dict.fromkeys(map(ord, "\u00ad\u200b\u2060\ufeff\u200e\u200f\u202a\u202b\u202c\u202d\u202e"))


@dataclass(eq=False, slots=True)
class Element:
    """An element of the structure tree: its standard type (ISO 32000-2, section 14.8.4), the one that holds it, where
    it stands in the order of reading, and its attributes as they are written behind its type."""

    kind: str
    parent: Element | None
    order: int
    language: str = ""
    alternative: str | None = None
    attributes: str = ""
    address: str = ""
    source: str = ""
    label: Element | None = None
    first: int = -1
    level: int = 0
    drawn: bool = False

    def above(self, kind: str) -> Element | None:
        """The nearest element of a kind, from this one upwards."""
        element: Element | None = self
        while element is not None and element.kind != kind:
            element = element.parent
        return element

    @property
    def block(self) -> Element:
        """The element that stands for itself in the order of reading: this one, or the one in whose text it stands."""
        element = self
        while element.kind in _IN_TEXT and element.parent is not None:
            element = element.parent
        return element


@dataclass(eq=False, slots=True)
class Leaf:
    """A text of the HTML: the element that it belongs to, and its place in the order of reading."""

    element: Element
    order: int


@dataclass
class Reading:
    """All text of a page in order. `letters` are its letters and digits alone, without case and accents; `at` tells
    where in `text` each stands. Of each leaf, `starts` has the first letter, `places` where it begins in `text`."""

    root: Element
    elements: list[Element]
    text: str = ""
    letters: str = ""
    at: list[int] = field(default_factory=list)
    leaves: list[Leaf] = field(default_factory=list)
    starts: list[int] = field(default_factory=list)
    places: list[int] = field(default_factory=list)

    def add(self, kind: str) -> Element:
        """An element behind all others, for what the HTML does not have."""
        element = Element(kind, self.root, len(self.elements) + len(self.leaves))
        self.elements.append(element)
        return element

    def leaf(self, letter: int) -> Leaf:
        """The leaf to which a letter belongs."""
        return self.leaves[bisect_right(self.starts, letter) - 1]

    def leaf_at(self, place: int) -> Leaf:
        """The leaf to which what stands at a place of `text` belongs."""
        return self.leaves[max(0, bisect_right(self.places, place) - 1)]

    def end_of_leaf(self, letter: int) -> int:
        """The first letter behind the leaf to which a letter belongs."""
        number = bisect_right(self.starts, letter)
        return self.starts[number] if number < len(self.starts) else len(self.letters)

    def slice(self, first: int, end: int) -> str:
        """The text from a letter to the one before `end`, with what stands between them and the signs on the last."""
        return self.text[self.at[first] : self._behind(end - 1)]

    def behind(self, letter: int) -> str:
        """What stands between a letter and the next one."""
        following = self.at[letter + 1] if letter + 1 < len(self.at) else len(self.text)
        return self.text[self._behind(letter) : following]

    def signs_behind(self, letter: int) -> str:
        """The signs between a letter and the next blank, or the next letter."""
        return self.behind(letter).partition(" ")[0].split("\n")[0]

    def _behind(self, letter: int) -> int:
        place = self.at[letter] + 1
        while place < len(self.text) and is_sign(self.text[place]):
            place += 1
        return place


class _Folding(dict[str, str]):
    """What counts of a character: its letters and digits, without case, accents and forms of presentation."""

    def __missing__(self, char: str) -> str:
        plain = unicodedata.normalize("NFKD", char).casefold()
        folded = "".join(each for each in unicodedata.normalize("NFKD", plain) if each.isalnum())
        self[char] = folded
        return folded


FOLDED = _Folding()


def letters_of(text: str) -> str:
    """The letters and digits of a text, as they are compared."""
    if text.isascii():
        return "".join(filter(str.isalnum, text.lower()))
    return "".join(map(FOLDED.__getitem__, text))


def is_sign(char: str) -> bool:
    """Whether a character is a sign on a letter, or joins letters."""
    return char > "\u02ff" and (unicodedata.category(char)[0] == "M" or char in "\u200c\u200d")


def spoken(text: str) -> str:
    """A text as it is said: blanks are one, and what no one hears is gone."""
    return re.sub(r"\s+", " ", text.translate(_UNSEEN))


def reading_order(html: str, resources: Mapping[str, tuple[str, bytes]], language: str) -> Reading:
    """What the HTML of a page says; `resources` are its pictures, `language` is that of the sender's text. All else is
    in the language that the HTML says of itself."""
    parser = LexborHTMLParser(html)
    ours = _language(parser.root.attributes) if parser.root is not None else ""
    return _Reader(resources, ours or language, language).read(parser.body)


@dataclass(slots=True)
class _Place:
    """Where the reader stands: the element that holds others, the one that takes text, the language there, the heads
    and cells of the data table around it, whether a block begins no paragraph here, and whether it is the sender's
    text, or that as plain text, whose lines we keep as they are."""

    group: Element
    holder: Element | None
    language: str
    cells: dict[int, Cell] | None = None
    closed: bool = False
    theirs: bool = False
    plain: bool = False


class _Reader:
    def __init__(self, resources: Mapping[str, tuple[str, bytes]], language: str, theirs: str) -> None:
        self.resources, self.theirs = resources, theirs
        root = Element("Document", None, 0, theirs)
        self.reading = Reading(root, [root])
        self.place = _Place(root, None, language)
        self.parts: list[str] = []
        self.length = 0
        self.letters: list[str] = []
        self.count = 0

    def read(self, body: LexborNode | None) -> Reading:
        if body is not None:
            self._inside(body)
        self.reading.text, self.reading.letters = "".join(self.parts), "".join(self.letters)
        return self.reading

    def _inside(self, node: LexborNode) -> None:
        for child in node.iter(include_text=True):
            if child.tag == "-text":
                self._text(child.text_content or "")
            elif child.tag not in _SILENT:
                self._element(child)

    def _element(self, node: LexborNode) -> None:
        """An element of the HTML, with all that is in it."""
        tag, attributes = node.tag or "", node.attributes
        if tag == "br":
            self._between("\n")
        elif tag == "img":
            self._picture(attributes)
        elif tag in _INLINE:
            self._inline(node, tag, attributes)
        else:
            self._block(node, tag, attributes)

    def _inline(self, node: LexborNode, tag: str, attributes: dict[str, str | None]) -> None:
        around = self.place
        language = _language(attributes) or around.language
        kind, address = "", (attributes.get("href") or "").strip()
        if tag == "a" and address:
            kind = "Link"
        elif tag in _CODE:
            kind = "Code"
        elif language != around.language:
            kind = "Span"
        if not kind:
            self._inside(node)
            return
        self.place = replace(around, language=language)
        element = self._new(kind, self._taking())
        around.holder = around.holder or self.place.holder
        element.address = address
        self.place.holder, self.place.closed = element, True
        self._inside(node)
        self.place = around

    def _block(self, node: LexborNode, tag: str, attributes: dict[str, str | None]) -> None:
        around, role = self.place, attributes.get("role") or ""
        self._between("\n")
        called = attributes.get("class") or ""
        theirs, plain = around.theirs or called.startswith(_THEIRS), around.plain or called.startswith("wx-text")
        said = self.theirs if (theirs and not around.theirs) or tag == "h1" else around.language
        language = _language(attributes) or said
        inner = self.place = _Place(around.group, around.holder, language, around.cells, around.closed, theirs, plain)
        if not around.closed:
            inner.holder = None
            self._open(node, tag, role, attributes, inner)
        self._inside(node)
        self.place = around
        if not around.closed and not (around.group.kind in _CELLS and around.holder is around.group):
            around.holder = None
        self._between("\n")

    def _open(self, node: LexborNode, tag: str, role: str, attributes: dict[str, str | None], place: _Place) -> None:
        """What a block is in the structure tree; most are nothing but the end of a paragraph."""
        kind = place.group.kind
        if tag in _HEADINGS or role == "heading":
            said = attributes.get("aria-level") or ""
            wanted = _HEADINGS.get(tag) or (int(said) if said.isdigit() else 2)
            self._take("H1", place).level = wanted + place.theirs
        elif tag == "p" or tag in ("dt", "dd", "summary", "address"):
            self._take("P", place, close=False)
        elif tag == "pre":
            paragraph = self._take("P", place)
            if not place.plain:
                place.holder = self._new("Code", paragraph)
        elif tag == "blockquote":
            place.group = self._new("BlockQuote", self._grouping(place))
        elif tag in _LISTS:
            place.group = self._new("L", self._grouping(place) if kind != "L" else place.group)
            if tag == "ol":
                place.group.attributes = "/A << /O /List /ListNumbering /Decimal >>"
        elif tag == "li" and kind == "L":
            item = self._new("LI", place.group)
            item.label = self._new("Lbl", item)
            place.group = place.holder = self._new("LBody", item)
            if _FOOTNOTE.search(attributes.get("id") or ""):
                place.group = place.holder = self._new("Note", place.group)
        elif tag == "table":
            place.cells = data_cells(node)
            if place.cells is not None:
                place.group = self._new("Table", self._grouping(place))
        elif tag == "caption" and kind == "Table":
            self._take("Caption", place)
        elif tag == "tr" and kind == "Table":
            place.group = self._new("TR", place.group)
        elif tag in ("td", "th") and kind == "TR" and place.cells is not None:
            cell = place.cells.get(node.mem_id)
            if cell is not None:
                place.group = place.holder = self._new("TH" if cell.head else "TD", place.group)
                place.group.attributes = cell.attributes

    def _take(self, kind: str, place: _Place, close: bool = True) -> Element:
        """Begin an element that takes text itself; where it is `closed`, blocks in it end no paragraph."""
        place.holder, place.closed = self._new(kind, self._grouping(place)), close
        return place.holder

    def _grouping(self, place: _Place) -> Element:
        """The element that may hold a block here."""
        if place.group.kind == "L":
            return self._new("LBody", self._new("LI", place.group))
        if place.group.kind in ("Table", "TR"):  # what stands between cells stands in front of the table
            table = place.group.above("Table")
            return (table.parent if table is not None else None) or self.reading.root
        return place.group

    def _new(self, kind: str, parent: Element) -> Element:
        language = self.place.language
        element = Element(kind, parent, self._order(), language if language != _language_of(parent) else "")
        element.first = self.count
        self.reading.elements.append(element)
        return element

    def _order(self) -> int:
        return len(self.reading.elements) + len(self.reading.leaves)

    def _taking(self) -> Element:
        """The element that takes text here; a paragraph where there is none yet."""
        if self.place.holder is None:
            self.place.holder = self._new("P", self._grouping(self.place))
        return self.place.holder

    def _picture(self, attributes: dict[str, str | None]) -> None:
        source, said = attributes.get("src") or "", attributes.get("alt")
        drawn = self.resources.get(source)
        figure = self._new("Figure", self.place.holder or self._grouping(self.place))
        figure.source, figure.alternative = source, spoken(said or "").strip() or None
        if said is None:
            figure.alternative = ""
        if drawn is not None and drawn[0] == "image/svg+xml":
            lines = [unescape(line) for line in _SVG_TEXT.findall(drawn[1].decode("utf-8", "replace"))]
            for line in lines:
                self._text(f"{line} ", figure)
            figure.alternative = figure.alternative or " ".join(lines) or figure.alternative

    def _text(self, text: str, owner: Element | None = None) -> None:
        if text and not text.isspace():
            owner = owner or self._taking()
            reading = self.reading
            reading.leaves.append(Leaf(owner, self._order()))
            reading.starts.append(self.count)
            reading.places.append(self.length)
            letters = letters_of(text)
            if text.isascii():
                reading.at += compress(range(self.length, self.length + len(text)), map(str.isalnum, text))
            else:
                for at, char in enumerate(text, self.length):
                    folded = FOLDED[char]
                    reading.at += (at,) if len(folded) == 1 else (at,) * len(folded)
            self.letters.append(letters)
            self.count += len(letters)
        self._between(text)

    def _between(self, text: str) -> None:
        self.parts.append(text)
        self.length += len(text)


def _language(attributes: dict[str, str | None]) -> str:
    said = (attributes.get("lang") or "").strip()
    return said if _LANGUAGE.fullmatch(said) else ""


def _language_of(element: Element) -> str:
    above: Element | None = element
    while above is not None and not above.language:
        above = above.parent
    return above.language if above is not None else ""
