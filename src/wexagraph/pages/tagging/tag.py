"""The engine's PDF made a tagged one: stages that hand a result on."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping

from wexagraph.pages.composing.compose import Page
from wexagraph.pages.file_structure import EngineFile, changed, packed_from
from wexagraph.pages.options import PageOptions
from wexagraph.pages.tagging.content import Draw, Paint, Show
from wexagraph.pages.tagging.figures import figures_of
from wexagraph.pages.tagging.marking import Marking
from wexagraph.pages.tagging.matching import is_running, match, running_lines
from wexagraph.pages.tagging.owners import owners_of, set_levels
from wexagraph.pages.tagging.reading_order import Element, Reading, reading_order
from wexagraph.pages.tagging.sheets import Annotation, Sheet, Sheets
from wexagraph.pages.tagging.structure import Contents, Holder, text_string, tree

_STATED = re.compile(rb"/StructParents? \d+\s*")
_INSIDE = re.compile(r"(?:attachment|part):\d+$|#|$")
_NEAR = 3.0  # points by which a line may stand out of the rectangle of its link


def with_tags(pdf: bytes, page: Page, options: PageOptions) -> bytes:
    """The PDF that an engine made of a page, tagged where the page is to be."""
    if not page.tagged:
        return pdf
    edges = options.margin.top / options.page_size[1], options.margin.bottom / options.page_size[1]
    return tagged(pdf, page.html, page.resources, page.record.language, options.tr("Picture"), edges)


def tagged(
    pdf: bytes,
    html: str,
    resources: Mapping[str, tuple[str, bytes]],
    language: str,
    picture: str,
    edges: tuple[float, float] = (0.0, 0.0),
) -> bytes:
    """The PDF that the engine made of this HTML, tagged; what is drawn stays as it is.

    `resources` are the pictures as the engine was given them, `language` is that of the document (BCP 47), `picture`
    says of a picture that it is one, where its sender describes none. `edges` are the shares of a page's height that
    its margins have, top and bottom. A PDF that is laid out otherwise than the engine does it comes back as it was.
    """
    try:
        file = EngineFile(pdf)
        sheets = Sheets(file)
    except (ValueError, LookupError):
        return pdf
    reading = reading_order(html, resources, language)
    for page in sheets.pages:
        _find_running(page, running_lines(html), edges)
    shows = [show for page in sheets.pages for show in page.shows() if not show.running]
    match(shows, reading)
    owners, figures = owners_of(shows, reading), figures_of(sheets, reading, resources, picture)
    set_levels(reading.elements, {owner.element for some in owners.values() for owner in some}, figures.values())
    marking = Marking(reading, owners, figures)
    streams = [marking.stream(number, sheet) for number, sheet in enumerate(sheets.every)]
    objects = _linked(file, sheets, marking, picture)
    return _rewritten(file, sheets, streams, objects, marking)


def _rewritten(
    file: EngineFile, sheets: Sheets, streams: list[bytes], objects: dict[int, bytes], marking: Marking
) -> bytes:
    """The file with its content in other words, its objects with what they need to be tagged, and the structure
    tree."""
    holders = {
        number: Holder(sheet.page, sheet.stream if sheet.is_form else None, number)
        for number, sheet in enumerate(sheets.every)
    }
    first, packed = tree(
        marking.reading.elements, marking.contents, holders, lambda count: packed_from(file.end, 0, count)
    )
    root = first + len(packed) - 1
    catalogue = re.sub(rb"/StructTreeRoot \d+ 0 R\s*", b"", file.object(file.end.root)).rstrip()
    objects[file.end.root] = catalogue[:-2] + b"/StructTreeRoot %d 0 R /MarkInfo << /Marked true >> >>" % root
    for number, content in file.objects.items():
        if b"/StructElem" in content or b"/StructTreeRoot\n" in content:
            objects[number] = b"null"  # what the engine says of links alone
    for number in sheets.descendants:
        font = file.object(number)
        if b"/CIDFontType2" in font and b"/CIDToGIDMap" not in font:
            objects[number] = font.rstrip()[:-2] + b"/CIDToGIDMap /Identity >>"  # ISO 14289-1, section 7.21.3.2
    changes = []
    for number, (sheet, stream) in enumerate(zip(sheets.every, streams, strict=True)):
        about = b""
        if sheet.is_form:
            about = sheet.about + b" /StructParents %d" % number
        else:
            said = _STATED.sub(b"", file.object(sheet.page)).rstrip()
            objects[sheet.page] = said[:-2] + b"/StructParents %d /Tabs /S >>" % number
        changes.append(file.replacing(sheet.stream, about, stream))
    return changed(file.pdf, file.end, [*changes, *file.changes(objects)], [], packed)


def _find_running(page: Sheet, lines: list[str], edges: tuple[float, float]) -> None:
    """The running lines of a page are what the engine draws last, in its margins, in the words that they have there."""
    top, bottom = page.height * (1 - edges[0]), page.height * edges[1]
    for token in reversed(page.tokens if lines else ()):
        if isinstance(token, Draw | Paint):
            return
        if isinstance(token, Show):
            if bottom < token.y < top or not is_running(token, lines):
                return
            token.running = True


def _linked(file: EngineFile, sheets: Sheets, marking: Marking, picture: str) -> dict[int, bytes]:
    """The links of the pages as they are to be written; each becomes part of the element that it lies over."""
    reading, contents = marking.reading, marking.contents
    links: dict[str, list[Element]] = {}
    for element in reading.elements:
        if element.kind == "Link":
            links.setdefault(element.address, []).append(element)
    below = _points_below(reading.elements, marking.points)
    objects: dict[int, bytes] = {}
    key = len(sheets.every)
    for page in sheets.pages:
        for annotation in page.links:
            element = _link_of(annotation, page, links, below, contents) or reading.add("Link")
            contents.annotations.setdefault(element, []).append((annotation.number, page.page, key))
            said = _STATED.sub(b"", file.object(annotation.number)).rstrip()
            about = text_string(_about(reading, element, annotation.address) or picture)
            objects[annotation.number] = said[:-2] + b"/StructParent %d /Contents %s /F 4 >>" % (key, about)
            key += 1
    for element in reading.elements:
        if element.kind == "Link" and element not in contents.annotations:
            element.kind = "Span"
    return objects


def _about(reading: Reading, link: Element, address: str) -> str:
    """What a link leads to: its address; of one that leads inside the document, its words."""
    if not _INSIDE.match(address):
        return address
    ends = [*reading.places[1:], len(reading.text)]
    texts = (
        reading.text[begin:end]
        for leaf, begin, end in zip(reading.leaves, reading.places, ends, strict=True)
        if leaf.element.above("Link") is link
    )
    return " ".join("".join(texts).split())


def _points_below(
    elements: Iterable[Element], points: Mapping[Element, list[tuple[int, float]]]
) -> dict[Element, list[tuple[int, float]]]:
    """Where the contents of links stand: page and height."""
    below: dict[Element, list[tuple[int, float]]] = {}
    for element in elements:
        link = element.above("Link")
        if link is not None and element in points:
            below.setdefault(link, []).extend(points[element])
    return below


def _link_of(
    annotation: Annotation,
    page: Sheet,
    links: Mapping[str, list[Element]],
    below: Mapping[Element, list[tuple[int, float]]],
    contents: Contents,
) -> Element | None:
    """The link that an annotation lies over: one with its address, on its lines, that has the fewest yet."""
    named = links.get(annotation.address, [])
    over = [
        link
        for link in named
        if any(
            number == page.page and annotation.bottom - _NEAR <= y <= annotation.top + _NEAR
            for number, y in below.get(link, ())
        )
    ]
    key: Callable[[Element], tuple[int, int]] = lambda link: (len(contents.annotations.get(link, ())), link.order)  # noqa: E731
    return min(over or named, key=key, default=None)
